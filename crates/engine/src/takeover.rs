//! A program on its way into the engine, region by region, and one on its way out: a player is held up for no longer than a few of them take.

use crate::Engine;
use crate::mix::Mix;
use fnv::FnvHashMap;
use program::{Program, Region, RegionKey, Sample, SampleId, StrandId, Turns};

/// A program that is being put together beside the one that plays: on any thread, or a few pieces at a time on the one that plays.
#[derive(Debug, Default)]
pub struct Arriving {
    program: Program,
    /// Where each region is, by its strand and number.
    places: FnvHashMap<(StrandId, u64), usize>,
    turns: Turns,
}

/// A program that is played no more.
#[derive(Debug)]
pub struct Leaving(Arriving);

impl Arriving {
    /// All but samples and regions, and how many of these are to come.
    pub fn new(head: Program, (samples, regions): (usize, usize)) -> Self {
        let mut arriving = Self {
            turns: Turns::before_regions(&head),
            program: head,
            places: FnvHashMap::default(),
        };
        arriving.program.samples.reserve_exact(samples);
        arriving.program.regions.reserve_exact(regions);
        arriving.places.reserve(regions);
        arriving
    }

    /// A whole one at once.
    pub fn whole(mut program: Program) -> Self {
        let (samples, regions) = (
            std::mem::take(&mut program.samples),
            std::mem::take(&mut program.regions),
        );
        let mut arriving = Self::new(program, (0, regions.len()));
        arriving.program.samples = samples;
        regions.into_iter().for_each(|region| arriving.add_region(region));
        arriving
    }

    /// The next sample.
    pub fn add_sample(&mut self, sample: Sample) {
        self.program.samples.push(sample);
    }

    /// The next region.
    pub fn add_region(&mut self, region: Region) {
        let index = self.program.regions.len();
        self.places.insert(name_of(region.key), index);
        self.turns.add(index, &region);
        self.program.regions.push(region);
    }
}

pub(crate) fn name_of(key: RegionKey) -> (StrandId, u64) {
    (key.strand, key.of.number())
}

impl Leaving {
    /// Gives so many samples and regions back to memory; whether any are left.
    pub fn shrink(&mut self, by: usize) -> bool {
        let Program { samples, regions, .. } = &mut self.0.program;
        samples.truncate(samples.len().saturating_sub(by));
        regions.truncate(regions.len().saturating_sub(by));
        !(samples.is_empty() && regions.is_empty())
    }
}

impl Engine {
    /// Goes over to another program: what sounds goes on where its region lives on and plays the same sample, else it fades; audio stays. Takes as long
    /// as there are voices, and what was played in turn: not as there are regions.
    pub fn take_over(&mut self, arriving: Arriving) -> Leaving {
        let sample_of = |program: &Program, index: usize| -> Option<SampleId> {
            let region = program.regions.get(index)?;
            program.samples.get(region.sample).map(|sample| sample.id)
        };
        let Arriving {
            program,
            places,
            turns,
        } = arriving;
        for voice in self.voices.active() {
            let place = voice.region().and_then(|before| {
                let key = self.program.regions.get(before)?.key;
                let index = *places.get(&name_of(key))?;
                (sample_of(&self.program, before) == sample_of(&program, index)).then_some(index)
            });
            voice.move_to(place);
        }
        let turns = self.turns.go_over_to(turns, &self.program, &program);
        self.standing.follow(&self.program, &program);
        self.mix = Mix::after(&program, self.rate_hz, &mut self.mix);
        let leaving = Leaving(Arriving {
            program: std::mem::replace(&mut self.program, program),
            places: std::mem::replace(&mut self.places, places),
            turns,
        });
        self.silence();
        self.follow();
        leaving
    }

    /// [`Engine::take_over`] of a whole program at once.
    pub fn update(&mut self, program: Program) {
        self.take_over(Arriving::whole(program));
    }
}
