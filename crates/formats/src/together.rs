//! Several programs that are written as one: presets of a SoundFont, or SFZ that share their audio.

use crate::losses::{KEY_UPS_ARE_BESIDE, KEY_UPS_ARE_LEFT_OUT, TURNS_ARE_BESIDE, TURNS_ARE_LEFT_OUT};
use crate::lower::lower_among;
use crate::{AudioForm, Bake, Format, FormatError, Loss, Lowered};
use program::{KeptValues, On, Program, Region, Turn};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// The bank of kits, where a program change chooses among sets of drums (General MIDI; SoundFont 2.04, section 4.7).
pub const PERCUSSION_BANK: u16 = 128;
/// Letters of a preset's name (section 7.2).
const NAME_LETTERS: usize = 19;

/// Where a program stands among others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Place {
    /// Bank, 0 to 127, or [`PERCUSSION_BANK`].
    pub bank: u16,
    /// Program, 0 to 127.
    pub number: u8,
}

/// Places for all that have none yet, each with whether it is a kit: numbers from 0 on, of kits in [`PERCUSSION_BANK`], of all else in bank 0.
pub fn places_for(wanted: &[(Option<Place>, bool)]) -> Vec<Place> {
    let mut taken: Vec<Place> = wanted.iter().filter_map(|(place, _)| *place).collect();
    let mut places = Vec::with_capacity(wanted.len());
    for (said, is_kit) in wanted {
        let bank = if *is_kit { PERCUSSION_BANK } else { 0 };
        let next = || {
            let mut free = (0..128).map(|number| Place { bank, number });
            free.find(|place| !taken.contains(place)).unwrap_or_default()
        };
        let place = said.unwrap_or_else(next);
        taken.push(place);
        places.push(place);
    }
    places
}

/// What a format cannot hold in one, and may hold in others beside it: presets of a SoundFont, or of kept values SFZ too.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Beside {
    /// Round robins after the first: a preset for each.
    pub turns: bool,
    /// Sounds of keys that come up: a preset in which keys that go down start them.
    pub key_up: bool,
    /// Values that are kept under names: where controls stand at first in one for each.
    #[serde(default)]
    pub kept: bool,
}

/// A program that a format can hold, with the samples of all beside it.
#[derive(Debug, Clone, PartialEq)]
pub struct Placed {
    /// Where it stands.
    pub place: Place,
    /// What reading it back gives, but for samples that others play.
    pub program: Program,
}

impl Placed {
    /// One that is written alone.
    pub fn alone(program: Program) -> Self {
        Self {
            place: Place::default(),
            program,
        }
    }
}

/// Programs that a format can hold as one.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Together {
    /// By their places. All have the same samples.
    pub programs: Vec<Placed>,
    /// How each sample is made, and of which instrument's.
    pub bakes: Vec<(usize, Bake)>,
    /// What was lost.
    pub losses: Vec<Loss>,
}

impl Together {
    /// The samples of all.
    pub fn samples(&self) -> &[program::Sample] {
        self.programs.first().map_or(&[], |first| &first.program.samples)
    }
}

/// Lowers programs, see [`lower_in`], each with the presets beside it that are asked for; those that have nothing which the format holds are left out. A sample that is
/// made in one way is written once.
///
/// # Errors
/// Where there are more presets than places for them.
pub fn lower_together(
    instruments: &[(&Program, Place)],
    beside: Beside,
    format: Format,
    form: AudioForm,
) -> Result<Together, FormatError> {
    let beside = match format {
        Format::Page => Beside::default(),
        Format::Sfz => Beside {
            turns: false,
            key_up: false,
            ..beside
        },
        Format::SoundFont2 => beside,
    };
    let narrow_db = form.narrow_db(instruments.iter().map(|(program, _)| *program));
    let mut all = Pool::default();
    let mut taken: HashSet<Place> = instruments.iter().map(|(_, place)| *place).collect();
    for (instrument, (program, own)) in instruments.iter().enumerate() {
        for (n, (preset, number)) in presets_of(program, beside, format).iter().enumerate() {
            let wished = number.map(|number| Place { number, ..*own });
            let place = if n == 0 {
                *own
            } else if let Some(free) = wished.filter(|place| !taken.contains(place)) {
                free
            } else {
                free_place(*own, &taken).ok_or_else(|| {
                    FormatError::TooMuch(
                        "There are more presets than a SoundFont has places for: leave some out.".to_owned(),
                    )
                })?
            };
            taken.insert(place);
            let lowered = lower_among(preset, format, form, narrow_db);
            if n == 0 {
                all.lose(&lowered.losses, beside);
            }
            all.add(instrument, place, lowered);
        }
    }
    Ok(all.whole())
}

/// The next of its number in a later bank; of kits, the next number.
fn free_place(Place { bank, number }: Place, taken: &HashSet<Place>) -> Option<Place> {
    let banks = (bank..PERCUSSION_BANK).map(|bank| Place { bank, number });
    let numbers = (number..128).map(|number| Place { bank, number });
    banks.chain(numbers).find(|place| !taken.contains(place))
}

/// Samples that programs share, and what was lowered so far.
#[derive(Default)]
struct Pool {
    all: Together,
    samples: Vec<program::Sample>,
    /// Files that are taken, in small letters.
    files: HashSet<String>,
}

impl Pool {
    fn lose(&mut self, losses: &[Loss], beside: Beside) {
        for loss in losses {
            let what = match loss.what.as_str() {
                TURNS_ARE_LEFT_OUT if beside.turns => TURNS_ARE_BESIDE,
                KEY_UPS_ARE_LEFT_OUT if beside.key_up => KEY_UPS_ARE_BESIDE,
                what => what,
            };
            match self.all.losses.iter_mut().find(|of| of.what == what) {
                Some(known) => known.regions += loss.regions,
                None => self.all.losses.push(Loss {
                    what: what.to_owned(),
                    regions: loss.regions,
                }),
            }
        }
    }

    fn add(&mut self, instrument: usize, place: Place, lowered: Lowered) {
        let Lowered {
            mut program, bakes, ..
        } = lowered;
        if program.regions.is_empty() {
            return;
        }
        let own = std::mem::take(&mut program.samples);
        let numbers: Vec<usize> = (own.into_iter().zip(bakes))
            .map(|(sample, bake)| self.number_of(sample, (instrument, bake)))
            .collect();
        for region in &mut program.regions {
            region.sample = numbers[region.sample];
        }
        self.all.programs.push(Placed { place, program });
    }

    /// Where a sample lies that is made in such a way.
    fn number_of(&mut self, mut sample: program::Sample, made: (usize, Bake)) -> usize {
        if let Some(known) = self.all.bakes.iter().position(|of| *of == made) {
            return known;
        }
        let plain = sample.name.clone();
        let mut n = 2;
        while !self.files.insert(sample.source.to_lowercase()) {
            sample.name = format!("{plain} {n}");
            sample.source = format!("samples/{}.wav", sample.name);
            n += 1;
        }
        sample.id = program::SampleId(self.samples.len() as u64);
        self.samples.push(sample);
        self.all.bakes.push(made);
        self.samples.len() - 1
    }

    /// By their places, with all samples.
    fn whole(mut self) -> Together {
        self.all.programs.sort_by_key(|placed| placed.place);
        for placed in &mut self.all.programs {
            placed.program.samples.clone_from(&self.samples);
        }
        self.all
    }
}

/// The presets of one program: itself, and those beside it that are asked for, with the numbers that they wish for.
fn presets_of(program: &Program, beside: Beside, format: Format) -> Vec<(Program, Option<u8>)> {
    let mut all = vec![(program.clone(), None)];
    let turns = program
        .regions
        .iter()
        .filter_map(|region| turn_of(program, region));
    let most = turns.map(|(_, of)| of).max().unwrap_or(1);
    for turn in (1..most).filter(|_| beside.turns) {
        let name = named(&program.name, &(turn + 1).to_string());
        all.push((in_turn(program, turn, name), None));
    }
    if beside.key_up
        && program
            .strands
            .iter()
            .any(|strand| strand.on.is_key_up() && !strand.muted)
    {
        all.push((of_key_up(program, named(&program.name, "key-up")), None));
    }
    for kept in program.kept.iter().filter(|_| beside.kept) {
        let name = match format {
            Format::SoundFont2 => named(&program.name, &kept.name),
            Format::Sfz | Format::Page => format!("{} {}", program.name, kept.name),
        };
        let number = kept.program.and_then(|number| number.checked_sub(1));
        all.push((standing_so(program, kept, name), number));
    }
    all
}

/// A name with something behind it that its letters have room for.
fn named(name: &str, what: &str) -> String {
    // Of what is longer than a name, half a name's letters.
    let what: String = match what.chars().count() {
        0..NAME_LETTERS => what.to_owned(),
        _ => what.chars().take(NAME_LETTERS / 2).collect(),
    };
    let room = NAME_LETTERS - what.chars().count() - 1;
    let cut: String = name.chars().take(room).collect();
    format!("{} {}", cut.trim_end(), what.trim_end())
        .trim_start()
        .to_owned()
}

/// A region's place among those that take turns, and how many they are.
fn turn_of(program: &Program, region: &Region) -> Option<(u16, u16)> {
    let of_strand = program
        .strand_of(region)
        .and_then(|strand| strand.when.turn.place());
    region.when.turn.place().or(of_strand)
}

/// What sounds in one turn, from 0; where fewer take turns, they come round.
fn in_turn(program: &Program, turn: u16, name: String) -> Program {
    let mut one = program.clone();
    one.name = name;
    one.regions
        .retain(|region| turn_of(program, region).is_none_or(|(place, of)| place == turn % of));
    for region in &mut one.regions {
        region.when.turn = Turn::Always;
    }
    for strand in &mut one.strands {
        strand.when.turn = Turn::Always;
    }
    one
}

/// With controls that stand at first where they are kept.
fn standing_so(program: &Program, kept: &KeptValues, name: String) -> Program {
    let mut one = program.clone();
    one.name = name;
    for kept in &kept.values {
        if let Some(control) = one.controls.iter_mut().find(|control| control.id == kept.control) {
            control.at_first = kept.value.clamp(0.0, 1.0);
        }
    }
    one
}

/// What sounds as keys come up, as they go down.
fn of_key_up(program: &Program, name: String) -> Program {
    let mut one = program.clone();
    one.name = name;
    one.strands.retain(|strand| strand.on.is_key_up());
    let kept: Vec<_> = one.strands.iter().map(|strand| strand.id).collect();
    one.regions.retain(|region| kept.contains(&region.key.strand));
    for strand in &mut one.strands {
        strand.on = On::KEY_DOWN;
    }
    one
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{sf2, write_sf2};
    use program::{
        Control, ControlId, Filter, KeptValue, ParamId, Passes, Route, RouteId, Sample, SampleId, ShapeId,
        Source, Strand, StrandId,
    };
    use signal::Audio;
    use std::io::Cursor;

    fn tone(n: u64, name: &str) -> Sample {
        Sample {
            id: SampleId(n),
            name: name.to_owned(),
            source: n.to_string(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 1_000,
        }
    }

    /// Two turns on a key, one on another, and a sound of keys that come up.
    fn program(name: &str) -> Program {
        let turn = |place| Turn::InOrder { place, of: 2 };
        let mut regions = [(0, 60), (1, 60), (2, 64), (3, 64)]
            .map(|(sample, key)| Region::whole(sample, key, 1_000).on_keys(key, key));
        (regions[0].when.turn, regions[1].when.turn) = (turn(0), turn(1));
        regions[3].key.strand = StrandId(1);
        let samples = (0..4).map(|n| tone(n, &format!("{n}"))).collect();
        let mut program = Program::plain(name, samples, regions.to_vec());
        program.strands.push(Strand {
            on: On::KEY_UP,
            ..Strand::new(StrandId(1), "Felt", ShapeId(0))
        });
        program
    }

    fn written(all: &Together) -> sf2::File<Cursor<Vec<u8>>> {
        let mut out = Cursor::new(Vec::new());
        write_sf2(&mut out, &all.programs, 16, |n| {
            let frames = all.programs[0].program.samples[n].frames as usize;
            Ok::<_, FormatError>(Audio::mono(48_000, vec![n as f32 / 64.0; frames]))
        })
        .unwrap();
        sf2::File::read(Cursor::new(out.into_inner())).unwrap()
    }

    /// A control takes one strand away; under two names it stands elsewhere.
    #[test]
    fn kept_values_are_presets_or_texts_beside_on_the_same_samples() {
        let mut program = program("Slate");
        program.controls.push(Control {
            id: ControlId(4),
            name: "Open".into(),
            at_first: 0.0,
            controller: None,
        });
        program.shapes[0].filter = Some(Filter {
            passes: Passes::Low,
            poles: 2,
            cutoff_hz: 400.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        });
        program.shapes[0].routes.push(Route {
            id: RouteId(1),
            from: Source::Control(ControlId(4)),
            times: None,
            curve: None,
            to: ParamId::Cutoff,
            amount: 4.0,
        });
        let of = |control, value| KeptValue {
            control: ControlId(control),
            value,
        };
        let kept = |name: &str, program, value| KeptValues {
            name: name.to_owned(),
            program,
            values: vec![of(4, value), of(99, 1.0)],
        };
        program.kept = vec![kept("wide open", Some(12), 1.0), kept("half", None, 0.5)];
        let beside = Beside {
            kept: true,
            ..Beside::default()
        };
        let of = [(&program, Place::default())];
        for format in [Format::Sfz, Format::SoundFont2] {
            let all = lower_together(&of, beside, format, AudioForm::default()).unwrap();
            let told: Vec<(&str, u8)> = (all.programs.iter())
                .map(|placed| (placed.program.name.as_str(), placed.place.number))
                .collect();
            // One that wishes for a number has it, in the same bank; another the same number, in the next.
            assert_eq!(told, [("Slate", 0), ("Slate wide open", 11), ("Slate half", 0)]);
            let alone = lower_together(&of, Beside::default(), format, AudioForm::default()).unwrap();
            assert_eq!((alone.programs.len(), alone.bakes.len()), (1, all.bakes.len()));
        }
        // In an SFZ the control stands elsewhere at first; in a SoundFont, which does not say where, its filter is open by as much.
        let sfz = lower_together(&of, beside, Format::Sfz, AudioForm::default()).unwrap();
        let stands = |n: usize| sfz.programs[n].program.controls[0].at_first;
        assert_eq!([0, 1, 2].map(stands), [0.0, 1.0, 64.0 / 127.0]);
    }

    #[test]
    fn turns_and_key_up_sounds_are_presets_beside_and_share_their_samples() {
        let both = Beside {
            turns: true,
            key_up: true,
            kept: false,
        };
        let program = program("A name that is rather long");
        let of = [(&program, Place::default())];
        let all = lower_together(&of, both, Format::SoundFont2, AudioForm::default()).unwrap();
        let lost: Vec<(&str, usize)> = all
            .losses
            .iter()
            .map(|loss| (loss.what.as_str(), loss.regions))
            .collect();
        assert_eq!(lost, [(KEY_UPS_ARE_BESIDE, 1), (TURNS_ARE_BESIDE, 1)]);
        assert_eq!(all.bakes.len(), 4, "one sample is in two presets");
        let file = written(&all);
        let names: Vec<&str> = file.presets.iter().map(|preset| preset.name.as_str()).collect();
        assert_eq!(
            names,
            ["A name that is rath", "A name that is ra 2", "A name that key-up"]
        );
        let keys = |n: usize| -> Vec<(u8, char)> {
            let read = file.program(n).unwrap().program;
            let value = |region: &Region| read.samples[region.sample].name.chars().last().unwrap();
            (read.regions.iter())
                .map(|region| (region.root_key, value(region)))
                .collect()
        };
        assert_eq!(keys(0), [(60, '0'), (64, '2')]);
        assert_eq!(keys(1), [(60, '1'), (64, '2')]);
        assert_eq!(keys(2), [(64, '3')]);
    }

    /// What had one side comes down beside what had two, though they are of two instruments.
    #[test]
    fn levels_of_one_side_stay_to_those_of_two_in_another_instrument() {
        let (narrow, mut wide) = (program("Narrow"), program("Wide"));
        for sample in &mut wide.samples {
            (sample.channels, sample.source_channels) = (2, 2);
        }
        let one_side = AudioForm {
            rate_hz: None,
            one_side: true,
        };
        let places = places_for(&[(None, false), (None, false)]);
        let level = |programs: &[&Program]| {
            let all: Vec<(&Program, Place)> = programs.iter().copied().zip(places.iter().copied()).collect();
            let lowered = lower_together(&all, Beside::default(), Format::Sfz, one_side).unwrap();
            lowered.programs[0].program.regions[0].gain_db
        };
        assert_eq!(level(&[&narrow]), 0.0);
        assert_eq!(level(&[&narrow, &wide]), -3.01);
        assert_eq!(level(&[&wide, &narrow]), 0.0);
    }

    #[test]
    fn kits_stand_in_the_percussion_bank_and_all_else_beside_what_has_a_place() {
        let at = |bank, number| Place { bank, number };
        let wanted = [
            (None, false),
            (Some(at(0, 0)), false),
            (None, true),
            (None, false),
            (None, true),
        ];
        let places = places_for(&wanted);
        assert_eq!(places, [at(0, 1), at(0, 0), at(128, 0), at(0, 2), at(128, 1)]);
    }

    #[test]
    fn several_instruments_stand_at_their_places_and_names_of_files_do_not_meet() {
        let (kit, chimes) = (program("Kit"), program("Chimes"));
        let at = |bank, number| Place { bank, number };
        let both = [(&kit, at(PERCUSSION_BANK, 0)), (&chimes, at(3, 7))];
        let lowered =
            |format| lower_together(&both, Beside::default(), format, AudioForm::default()).unwrap();
        let file = written(&lowered(Format::SoundFont2));
        let places: Vec<_> = (file.presets.iter())
            .map(|preset| (preset.name.as_str(), preset.bank, preset.program))
            .collect();
        assert_eq!(places, [("Chimes", 3, 7), ("Kit", 128, 0)]);
        let all = lowered(Format::Sfz);
        let files: HashSet<&str> = (all.programs[0].program.samples.iter())
            .map(|sample| sample.source.as_str())
            .collect();
        assert_eq!(files.len(), 8);
        assert_eq!(all.programs[0].program.regions.len(), 4);
        assert!(
            all.programs
                .iter()
                .all(|placed| placed.program.samples.len() == 8)
        );
    }
}
