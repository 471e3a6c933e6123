//! Keys that came up while a pedal held them, and how long each was down.

use program::{SOSTENUTO, SUSTAIN, Standing};

/// What pedals hold.
#[derive(Debug, Clone)]
pub(crate) struct Pedals {
    /// The velocity of the strike of each key that came up and is held; 0 for the others.
    lifted: [u8; 128],
    /// Keys that were down when the sostenuto pedal went down.
    caught: [bool; 128],
    /// The engine's frame at which each key was struck last.
    struck_at: [u64; 128],
}

impl Default for Pedals {
    fn default() -> Self {
        Self {
            lifted: [0; 128],
            caught: [false; 128],
            struck_at: [0; 128],
        }
    }
}

impl Pedals {
    /// A key goes down, at a frame of the engine.
    pub(crate) fn struck(&mut self, key: u8, at: u64) {
        self.struck_at[usize::from(key)] = at;
    }

    /// Of some keys the one that was struck last, with what goes with it.
    pub(crate) fn last_of(&self, keys: impl Iterator<Item = (u8, u8)>) -> Option<(u8, u8)> {
        keys.max_by_key(|(key, _)| self.struck_at[usize::from(*key)])
    }

    /// Seconds since a key was struck.
    pub(crate) fn held_s(&self, key: u8, now: u64, rate_hz: f64) -> f64 {
        now.saturating_sub(self.struck_at[usize::from(key)]) as f64 / rate_hz
    }

    /// Whether a pedal holds the sound of a key that comes up now; it is kept until the pedal comes up.
    pub(crate) fn holds(&mut self, standing: &Standing, key: u8, velocity: u8) -> bool {
        let holds = standing.pedal(SUSTAIN) || self.caught[usize::from(key)];
        if holds {
            self.lifted[usize::from(key)] = velocity;
        }
        holds
    }

    /// The sostenuto pedal goes down: it catches what is down.
    pub(crate) fn catch(&mut self, standing: &Standing) {
        for (key, caught) in (0u8..).zip(&mut self.caught) {
            *caught = standing.is_down(key);
        }
    }

    /// A pedal came up: the next key that no pedal holds any more, with the velocity of its strike.
    pub(crate) fn next_let_go(&mut self, standing: &Standing) -> Option<(u8, u8)> {
        if standing.pedal(SUSTAIN) {
            return None;
        }
        if !standing.pedal(SOSTENUTO) {
            self.caught = [false; 128];
        }
        let free = |(velocity, caught): (&u8, &bool)| *velocity > 0 && !*caught;
        let key = self.lifted.iter().zip(&self.caught).position(free)?;
        Some((key as u8, std::mem::take(&mut self.lifted[key])))
    }

    /// Nothing is held any more.
    pub(crate) fn forget(&mut self) {
        *self = Self::default();
    }
}
