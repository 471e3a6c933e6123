//! What a change of cleaning asks for is rendered, so that it is there when it is played; loops that measuring did not find are judged.

use crate::{Library, Outcome, Snapshot, Watch, take_of_source};

/// Renders and judges. What it makes is named by all that went in, so that it works on takes as they are when it begins, and may do it twice.
#[derive(Debug, Clone)]
pub struct Render {
    /// The program and its takes.
    pub snapshot: Snapshot,
    /// Takes whose levels or loop are not known yet.
    pub unknown: Vec<u64>,
}

impl Render {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let takes = &self.snapshot.takes;
        let samples = &self.snapshot.program.samples;
        let cleaned: Vec<_> = samples.iter().filter(|s| s.source.contains('~')).collect();
        let all = (cleaned.len() + self.unknown.len()).max(1) as f64;
        for (n, sample) in cleaned.iter().enumerate() {
            watch.tell(n as f64 / all)?;
            if let Some(take) = takes.get(&take_of_source(&sample.source)?) {
                let of = (
                    usize::from(sample.first_channel),
                    usize::from(sample.source_channels),
                );
                take.audio(library, of, 0, u64::MAX)?;
            }
        }
        for (n, id) in self.unknown.iter().enumerate() {
            watch.tell((cleaned.len() + n) as f64 / all)?;
            if let Some(take) = takes.get(id) {
                take.tell_levels(library)?;
                if let Some((name, facts)) = take.judged_loop(library)? {
                    library.note_loop(take.id, &name, &facts)?;
                }
            }
        }
        Ok(Outcome::default())
    }
}
