//! Plans of transforms and windows, made once a thread.

use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use rustfft::{Fft, FftPlanner};
use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

/// Windows of so many lengths are kept.
const MOST_WINDOWS: usize = 64;

thread_local! {
    static COMPLEX: RefCell<FftPlanner<f32>> = RefCell::new(FftPlanner::new());
    static PLANNER: RefCell<RealFftPlanner<f32>> = RefCell::new(RealFftPlanner::new());
    static WINDOWS: RefCell<HashMap<usize, Rc<[f32]>>> = RefCell::new(HashMap::new());
}

pub(crate) fn forward(len: usize) -> Arc<dyn RealToComplex<f32>> {
    PLANNER.with_borrow_mut(|planner| planner.plan_fft_forward(len))
}

pub(crate) fn complex(len: usize) -> Arc<dyn Fft<f32>> {
    COMPLEX.with_borrow_mut(|planner| planner.plan_fft_forward(len))
}

pub(crate) fn inverse(len: usize) -> Arc<dyn ComplexToReal<f32>> {
    PLANNER.with_borrow_mut(|planner| planner.plan_fft_inverse(len))
}

/// Hann's window for spectra: the first frame is 0, the one after the last would be.
pub(crate) fn hann(len: usize) -> Rc<[f32]> {
    WINDOWS.with_borrow_mut(|windows| {
        if windows.len() > MOST_WINDOWS {
            windows.clear();
        }
        windows
            .entry(len)
            .or_insert_with(|| {
                (0..len)
                    .map(|n| 0.5 - 0.5 * (std::f64::consts::TAU * n as f64 / len as f64).cos())
                    .map(|x| x as f32)
                    .collect()
            })
            .clone()
    })
}

/// The longest length up to so many frames that is 4, 5 or 6 times a power of two, and 4 at least: such transforms are fast, and so few that their
/// windows are made once.
pub(crate) fn fast_len(most: usize) -> usize {
    let most = most.max(4);
    let step = 1usize << (most.ilog2() - 2);
    step * (most / step).min(6)
}

/// The even length nearest to so many frames whose only factors are 2, 3 and 5.
pub(crate) fn near_len(frames: f64) -> usize {
    let smooth = |mut n: usize| {
        for factor in [2usize, 3, 5] {
            while n.is_multiple_of(factor) {
                n /= factor;
            }
        }
        n == 1
    };
    let (most, middle) = (frames as usize, frames.round().max(8.0) as usize & !1);
    (0..=most)
        .step_by(2)
        .flat_map(|off| [middle.saturating_sub(off), middle + off])
        .find(|&n| n >= 8 && smooth(n))
        .unwrap_or(8)
}

#[cfg(test)]
mod tests {
    #[test]
    fn lengths_are_a_few_times_a_power_of_two() {
        let of = [0, 4, 9, 14, 15, 882, 65_568, 60_016].map(super::fast_len);
        assert_eq!(of, [4, 4, 8, 12, 12, 768, 65_536, 49_152]);
        let near = [0.0, 220.0, 240.0, 441.0, 882.0].map(super::near_len);
        assert_eq!(near, [8, 216, 240, 432, 864]);
    }
}
