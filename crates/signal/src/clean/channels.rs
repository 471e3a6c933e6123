//! Left and right.

use super::{Channels, Sides};
use crate::Audio;

/// Sides picked, exchanged, or drawn nearer together. More than two channels are left as they are.
pub(super) fn channels(mut audio: Audio, wish: &Channels) -> Audio {
    if audio.channels.len() != 2 {
        return audio;
    }
    match wish.sides {
        Sides::Both => {}
        Sides::Swapped => audio.channels.swap(0, 1),
        Sides::Left => audio.channels.truncate(1),
        Sides::Right => {
            audio.channels.swap(0, 1);
            audio.channels.truncate(1);
        }
        Sides::Sum => {
            let right = audio.channels.pop().unwrap_or_default();
            for (l, r) in audio.channels[0].iter_mut().zip(right) {
                *l = (*l + r) / 2.0;
            }
        }
    }
    let width = wish.width.clamp(0.0, 2.0) as f32;
    if let [left, right] = audio.channels.as_mut_slice()
        && width != 1.0
    {
        for (l, r) in left.iter_mut().zip(right) {
            let (middle, side) = ((*l + *r) / 2.0, (*l - *r) / 2.0 * width);
            (*l, *r) = (middle + side, middle - side);
        }
    }
    audio
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sides_are_summed_picked_exchanged_and_narrowed() {
        let stereo = Audio {
            rate_hz: 48_000,
            channels: vec![vec![1.0, 0.5], vec![0.0, -0.5]],
        };
        let of = |sides, width| channels(stereo.clone(), &Channels { sides, width }).channels;
        assert_eq!(of(Sides::Sum, 1.0), [[0.5, 0.0]]);
        assert_eq!(of(Sides::Left, 1.0), [[1.0, 0.5]]);
        assert_eq!(of(Sides::Right, 1.0), [[0.0, -0.5]]);
        assert_eq!(of(Sides::Swapped, 1.0), [[0.0, -0.5], [1.0, 0.5]]);
        assert_eq!(of(Sides::Both, 0.0), [[0.5, 0.0], [0.5, 0.0]]);
        assert_eq!(of(Sides::Both, 2.0), [[1.5, 1.0], [-0.5, -1.0]]);
    }
}
