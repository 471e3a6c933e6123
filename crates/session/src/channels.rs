//! What arrives becomes the channels that are wanted.

/// Frames of several mics, each mic's channels as the plan wants them.
pub fn of_mics(samples: &[f32], from: usize, to: u16, mics: usize) -> Vec<f32> {
    let mics_fit = mics > 1 && from.is_multiple_of(mics) && usize::from(to).is_multiple_of(mics);
    if from == usize::from(to) || !mics_fit {
        return in_channels(samples, from, to);
    }
    let (from, to) = (from / mics, to / mics as u16);
    samples
        .chunks_exact(from)
        .flat_map(|mic| in_channels(mic, from, to))
        .collect()
}

/// Frames of one number of channels as the plan wants them: mono is the mean, and a missing side is the other.
pub fn in_channels(samples: &[f32], from: usize, to: u16) -> Vec<f32> {
    let to = usize::from(to);
    if from == to || from == 0 {
        return samples.to_vec();
    }
    samples
        .chunks_exact(from)
        .flat_map(|frame| {
            let mean = frame.iter().sum::<f32>() / from as f32;
            (0..to).map(move |n| {
                if to == 1 || from == 1 {
                    mean
                } else {
                    frame.get(n).copied().unwrap_or(0.0)
                }
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mono_plan_hears_every_mic() {
        assert_eq!(of_mics(&[1.0, 0.0, 0.5, 0.5], 4, 2, 2), [0.5, 0.5]);
        assert_eq!(of_mics(&[1.0, 0.0, 0.2, 0.6], 4, 2, 2), [0.5, 0.4]);
        assert_eq!(of_mics(&[1.0, 0.0], 2, 1, 1), [0.5]);
    }

    #[test]
    fn channels_are_meaned_doubled_or_picked() {
        assert_eq!(in_channels(&[1.0, 0.0, 0.5, 0.5], 2, 1), [0.5, 0.5]);
        assert_eq!(in_channels(&[0.25, 0.5], 1, 2), [0.25, 0.25, 0.5, 0.5]);
        assert_eq!(in_channels(&[1.0, 2.0, 3.0, 4.0], 4, 2), [1.0, 2.0]);
    }
}
