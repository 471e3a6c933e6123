//! Sums of products, eight at once: with fused ones where the processor has them, which is found out as it runs.

use super::{PHASES, Place, Set};
use wide::f32x4;

/// Frames and coefficients that are taken at once.
pub(super) const LANES: usize = 8;
/// Of frames or coefficients.
type Row = [f32; LANES];

/// Coefficients that are taken at once, and how far from them those of the next phase are: a line of the processor's cache.
#[derive(Debug, Clone, Copy)]
#[repr(align(64))]
pub(super) struct Weights {
    pub(super) row: Row,
    pub(super) step: Row,
}

/// Bits of a position after its whole frames.
const FRACTION_BITS: u32 = 32;
/// Those of them that say how far it is between two phases.
const BETWEEN_BITS: u32 = FRACTION_BITS - PHASES.trailing_zeros();

/// How eight are computed at once.
pub(super) trait Lanes: Copy {
    type Eight: Copy;
    fn all(self, value: f32) -> Self::Eight;
    fn of(self, eight: &Row) -> Self::Eight;
    /// a·b + c.
    fn fused(self, a: Self::Eight, b: Self::Eight, c: Self::Eight) -> Self::Eight;
    fn sum(self, eight: Self::Eight) -> f32;
    fn sums(self, one: Self::Eight, other: Self::Eight) -> [f32; 2];
}

/// Twice four, as every processor has them.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fours;

impl Lanes for Fours {
    type Eight = [f32x4; 2];

    #[inline(always)]
    fn all(self, value: f32) -> Self::Eight {
        [f32x4::splat(value); 2]
    }

    #[inline(always)]
    fn of(self, &[a, b, c, d, e, f, g, h]: &Row) -> Self::Eight {
        [f32x4::from([a, b, c, d]), f32x4::from([e, f, g, h])]
    }

    #[inline(always)]
    fn fused(self, a: Self::Eight, b: Self::Eight, c: Self::Eight) -> Self::Eight {
        [a[0] * b[0] + c[0], a[1] * b[1] + c[1]]
    }

    #[inline(always)]
    fn sum(self, eight: Self::Eight) -> f32 {
        (eight[0] + eight[1]).reduce_add()
    }

    #[inline(always)]
    fn sums(self, one: Self::Eight, other: Self::Eight) -> [f32; 2] {
        [self.sum(one), self.sum(other)]
    }
}

#[cfg(target_arch = "x86_64")]
impl Lanes for pulp::x86::V3 {
    type Eight = pulp::f32x8;

    #[inline(always)]
    fn all(self, value: f32) -> Self::Eight {
        self.splat_f32x8(value)
    }

    #[inline(always)]
    fn of(self, eight: &Row) -> Self::Eight {
        pulp::cast(*eight)
    }

    #[inline(always)]
    fn fused(self, a: Self::Eight, b: Self::Eight, c: Self::Eight) -> Self::Eight {
        self.mul_add_f32x8(a, b, c)
    }

    #[inline(always)]
    fn sum(self, eight: Self::Eight) -> f32 {
        let [low, high]: [pulp::f32x4; 2] = pulp::cast(eight);
        let [a, b, c, d]: [f32; 4] = pulp::cast(self.add_f32x4(low, high));
        (a + c) + (b + d)
    }

    #[inline(always)]
    fn sums(self, one: Self::Eight, other: Self::Eight) -> [f32; 2] {
        let pairs = self.avx._mm256_hadd_ps(pulp::cast(one), pulp::cast(other));
        let [low, high]: [pulp::f32x4; 2] = pulp::cast(pairs);
        let [a, b, c, d]: [f32; 4] = pulp::cast(self.add_f32x4(low, high));
        [a + b, c + d]
    }
}

/// What is read of each side, and where it goes.
struct Run<'a, L, const SIDES: usize> {
    lanes: L,
    set: &'a Set,
    from: [&'a [f32]; SIDES],
    place: Place,
    to: [&'a mut [f32]; SIDES],
}

impl<L: Lanes, const SIDES: usize> Run<'_, L, SIDES> {
    #[inline(always)]
    fn read(self) -> usize {
        match 2 * self.set.half / LANES {
            3 => self.read_by::<3>(),
            4 => self.read_by::<4>(),
            5 => self.read_by::<5>(),
            6 => self.read_by::<6>(),
            8 => self.read_by::<8>(),
            10 => self.read_by::<10>(),
            12 => self.read_by::<12>(),
            other => unreachable!("no set has {other} eights"),
        }
    }

    /// With so many eights of coefficients.
    #[inline(always)]
    fn read_by<const EIGHTS: usize>(self) -> usize {
        let Self {
            lanes,
            set,
            from,
            place,
            to,
        } = self;
        let fixed = (1u64 << FRACTION_BITS) as f64;
        let mut at = (place.position * fixed) as u64;
        let mut by = (place.ratio * fixed) as u64;
        let steeper = (place.steeper * fixed) as i64;
        let frames = to.iter().map(|side| side.len()).min().unwrap_or(0);
        let reach = from.iter().map(|side| side.len()).min().unwrap_or(0);
        let from = from.map(|side| &side[..reach]);
        let phases: &[[Weights; EIGHTS]] = set.coefficients.as_chunks().0;
        let Some(phases) = phases.first_chunk::<PHASES>() else {
            return 0;
        };
        #[expect(clippy::needless_range_loop, reason = "one place on every side")]
        for n in 0..frames {
            let frame = (at >> FRACTION_BITS) as usize;
            let rows = &phases[(at >> BETWEEN_BITS) as usize % PHASES];
            let between = (at % (1 << BETWEEN_BITS)) as f32 / (1u64 << BETWEEN_BITS) as f32;
            let mut windows = [&[[0.0; LANES]; EIGHTS]; SIDES];
            for (window, side) in windows.iter_mut().zip(from) {
                let eights = side.get(frame..).map(|side| side.as_chunks().0);
                let Some(eights) = eights.and_then(|eights| eights.first_chunk()) else {
                    return n;
                };
                *window = eights;
            }
            let between = lanes.all(between);
            let mut sums = [lanes.all(0.0); SIDES];
            for (eight, Weights { row, step }) in rows.iter().enumerate() {
                let weight = lanes.fused(lanes.of(step), between, lanes.of(row));
                for (sum, window) in sums.iter_mut().zip(windows) {
                    *sum = lanes.fused(lanes.of(&window[eight]), weight, *sum);
                }
            }
            if SIDES == 2 {
                [to[0][n], to[SIDES - 1][n]] = lanes.sums(sums[0], sums[SIDES - 1]);
            } else {
                to[0][n] = lanes.sum(sums[0]);
            }
            at = at.wrapping_add(by);
            by = by.wrapping_add_signed(steeper);
        }
        frames
    }
}

#[cfg(target_arch = "x86_64")]
impl<const SIDES: usize> pulp::NullaryFnOnce for Run<'_, pulp::x86::V3, SIDES> {
    type Output = usize;

    #[inline(always)]
    fn call(self) -> usize {
        self.read()
    }
}

/// Reads each side from a place on, as far as what is read of reaches: how many frames.
pub(super) fn read<const SIDES: usize>(
    set: &Set,
    from: [&[f32]; SIDES],
    place: Place,
    to: [&mut [f32]; SIDES],
) -> usize {
    #[cfg(target_arch = "x86_64")]
    if let Some(lanes) = pulp::x86::V3::try_new() {
        return lanes.vectorize(Run {
            lanes,
            set,
            from,
            place,
            to,
        });
    }
    Run {
        lanes: Fours,
        set,
        from,
        place,
        to,
    }
    .read()
}
