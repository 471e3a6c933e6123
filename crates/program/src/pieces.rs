//! A program as bytes that are read bit by bit, so that whoever takes it over while it plays is never held up for long.
//!
//! All but samples and regions comes first, then how many there are of these, then each by itself: in the form of the crate `postcard`, which knows
//! where each ends.

use crate::{Program, Region, Sample};
use serde::de::DeserializeOwned;

/// What nobody hears is left out: names of samples, where they come from, and words of files.
///
/// # Errors
/// That it cannot be written, which no program gives cause for.
pub fn to_pieces(program: &Program) -> Result<Vec<u8>, postcard::Error> {
    let head = Program {
        name: program.name.clone(),
        strands: program.strands.clone(),
        shapes: program.shapes.clone(),
        switches: program.switches.clone(),
        curves: program.curves.clone(),
        buses: program.buses.clone(),
        routes: program.routes.clone(),
        controls: program.controls.clone(),
        controllers_at_first: program.controllers_at_first.clone(),
        most_voices: program.most_voices,
        seed: program.seed,
        ..Program::default()
    };
    let mut bytes = postcard::to_allocvec(&head)?;
    bytes = postcard::to_extend(
        &(program.samples.len() as u32, program.regions.len() as u32),
        bytes,
    )?;
    for sample in &program.samples {
        let told = Sample {
            name: String::new(),
            source: String::new(),
            ..*sample
        };
        bytes = postcard::to_extend(&told, bytes)?;
    }
    for region in &program.regions {
        if region.foreign.is_empty() {
            bytes = postcard::to_extend(region, bytes)?;
        } else {
            let mut told = region.clone();
            told.foreign.clear();
            bytes = postcard::to_extend(&told, bytes)?;
        }
    }
    Ok(bytes)
}

/// The rest of a program's bytes.
#[derive(Debug)]
pub struct Pieces {
    bytes: Vec<u8>,
    at: usize,
    samples: u32,
    regions: u32,
}

impl Pieces {
    /// All but samples and regions, and what gives these.
    ///
    /// # Errors
    /// That these are not the bytes of a program.
    pub fn read(bytes: Vec<u8>) -> Result<(Program, Self), postcard::Error> {
        let mut pieces = Self {
            bytes,
            at: 0,
            samples: 0,
            regions: 0,
        };
        let head = pieces.take()?;
        (pieces.samples, pieces.regions) = pieces.take()?;
        // Each is a byte at least.
        let left = pieces.bytes.len() - pieces.at;
        if pieces.samples as usize + pieces.regions as usize > left {
            return Err(postcard::Error::DeserializeUnexpectedEnd);
        }
        Ok((head, pieces))
    }

    /// Samples and regions that are to come.
    pub fn left(&self) -> (usize, usize) {
        (self.samples as usize, self.regions as usize)
    }

    /// The next sample; `None` after the last.
    ///
    /// # Errors
    /// That these are not the bytes of one.
    pub fn next_sample(&mut self) -> Result<Option<Sample>, postcard::Error> {
        let Some(left) = self.samples.checked_sub(1) else {
            return Ok(None);
        };
        self.samples = left;
        self.take().map(Some)
    }

    /// The next region, after all samples; `None` after the last.
    ///
    /// # Errors
    /// That these are not the bytes of one.
    pub fn next_region(&mut self) -> Result<Option<Region>, postcard::Error> {
        let Some(left) = self.regions.checked_sub(1) else {
            return Ok(None);
        };
        self.regions = left;
        self.take().map(Some)
    }

    fn take<T: DeserializeOwned>(&mut self) -> Result<T, postcard::Error> {
        let (value, rest) = postcard::take_from_bytes(&self.bytes[self.at..])?;
        self.at = self.bytes.len() - rest.len();
        Ok(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Foreign, SampleId, StrandId};

    fn program() -> Program {
        let samples = (0..3).map(|n| Sample {
            id: SampleId(n),
            name: format!("sample {n}"),
            source: format!("{n}"),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames: 1_000 + n,
        });
        let mut regions: Vec<Region> = (0..5).map(|n| Region::whole(n % 3, 60, 900)).collect();
        regions[4].foreign.push(Foreign {
            word: "a".into(),
            value: "b".into(),
        });
        Program::plain("Chimes", samples.collect(), regions)
    }

    #[test]
    fn a_program_comes_back_piece_by_piece_with_all_that_is_heard() {
        let program = program();
        let (head, mut pieces) = Pieces::read(to_pieces(&program).unwrap()).unwrap();
        assert_eq!(head.strands[0].id, StrandId(0));
        assert_eq!((head.regions.len(), pieces.left()), (0, (3, 5)));
        let samples: Vec<Sample> = std::iter::from_fn(|| pieces.next_sample().unwrap()).collect();
        let regions: Vec<Region> = std::iter::from_fn(|| pieces.next_region().unwrap()).collect();
        let frames = |samples: &[Sample]| samples.iter().map(|s| (s.id, s.frames)).collect::<Vec<_>>();
        assert_eq!(frames(&samples), frames(&program.samples));
        assert_eq!(regions[..4], program.regions[..4]);
        assert!(regions[4].foreign.is_empty());
    }

    #[test]
    fn bytes_that_end_in_the_middle_or_promise_too_much_are_refused() {
        let bytes = to_pieces(&program()).unwrap();
        for end in 0..bytes.len() {
            let ends = Pieces::read(bytes[..end].to_vec()).and_then(|(_, mut pieces)| {
                while pieces.next_sample()?.is_some() {}
                while pieces.next_region()?.is_some() {}
                Ok(())
            });
            assert!(ends.is_err(), "{end}");
        }
        let head = postcard::to_allocvec(&Program::default()).unwrap();
        let many = postcard::to_extend(&(u32::MAX, 3u32), head).unwrap();
        assert!(Pieces::read(many).is_err());
    }
}
