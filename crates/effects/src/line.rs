//! Sound that is heard later.

/// The last frames that went in.
#[derive(Debug, Clone)]
pub(crate) struct Line {
    frames: Vec<f32>,
    at: usize,
}

impl Line {
    /// That can be read as late as so many frames.
    pub(crate) fn new(longest: usize) -> Self {
        // Two more are read around a place between frames.
        Self {
            frames: vec![0.0; (longest + 4).next_power_of_two()],
            at: 0,
        }
    }

    pub(crate) fn put(&mut self, x: f32) {
        let mask = self.frames.len() - 1;
        self.at = (self.at + 1) & mask;
        self.frames[self.at] = x;
    }

    /// What went in so many frames ago, 0 the last.
    pub(crate) fn ago(&self, frames: usize) -> f32 {
        let mask = self.frames.len() - 1;
        self.frames[self.at.wrapping_sub(frames) & mask]
    }

    /// The same between frames, 1 and more, through four of them (Catmull-Rom). At a whole number it is that frame.
    pub(crate) fn between(&self, frames: f32) -> f32 {
        let whole = frames as usize;
        let t = frames - whole as f32;
        if t == 0.0 {
            return self.ago(whole);
        }
        let [a, b, c, d] = [whole.max(1) - 1, whole, whole + 1, whole + 2].map(|n| self.ago(n));
        let (one, two, three) = (c - a, 2.0 * a - 5.0 * b + 4.0 * c - d, 3.0 * (b - c) + d - a);
        b + 0.5 * t * (one + t * (two + t * three))
    }

    pub(crate) fn clear(&mut self) {
        self.frames.fill(0.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_gives_back_what_went_in_to_the_frame_and_between() {
        let mut line = Line::new(100);
        for n in 0..300 {
            line.put(n as f32);
        }
        assert_eq!(line.ago(0), 299.0);
        assert_eq!(line.ago(100), 199.0);
        assert_eq!(line.between(7.0), 292.0);
        assert!((line.between(7.25) - 291.75).abs() < 1e-3);
        line.clear();
        assert_eq!(line.ago(5), 0.0);
    }
}
