//! What becomes of files that are taken in: rungs from their names and sound, and a plan that has a cell for each.

use crate::names::MiddleC;
use crate::{
    Cell, Fill, How, Inside, Kind, Layer, LayerId, MapSettings, NameGuess, PAGE_RIG, Pass, PassId, Plan,
    even_layers, first_plan, key_name,
};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// No take is longer, in seconds: what is longer is a long take, and is cut.
pub const MOST_TAKE_S: u64 = 300;

/// Under this the pitch heard is no evidence.
const SURE: f64 = 0.5;

/// What was heard in a file and stood inside it.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct HeardInFile {
    /// The note.
    pub key: Option<u8>,
    /// Cents above it.
    pub cents: Option<f64>,
    /// How sure, 0 to 1.
    pub confidence: f64,
    /// Root and loop inside the file.
    pub inside: Option<Inside>,
    /// The take it went out as.
    pub from_take: Option<u64>,
    /// Whether it dies away by itself in its first seconds; `None` where nobody listened for that.
    #[serde(default)]
    pub dies_away: Option<bool>,
    /// Its highest sample, in dBFS.
    #[serde(default)]
    pub peak_dbfs: Option<f64>,
    /// Loudness of its first seconds, in LUFS.
    #[serde(default)]
    pub loudness_lufs: Option<f64>,
    /// Whether every sample of it is 0.
    #[serde(default)]
    pub silent: bool,
}

impl HeardInFile {
    /// The note, where it is sure enough to be evidence.
    pub fn sure_key(&self) -> Option<u8> {
        self.key.filter(|_| self.confidence >= SURE)
    }
}

/// What the files of one name are: looped where one of them brings a loop, not where others of their folder bring loops and they do not,
/// and else as the instrument's plan has it.
pub fn kind_of_files(planned: Kind, has_loop: bool, others_have: bool) -> Kind {
    match (has_loop, planned.loops()) {
        (true, false) => Kind::Sustained,
        (false, true) if others_have => Kind::Struck,
        _ => planned,
    }
}

/// What files are offered as that are to be one instrument: looped where one brings a loop, struck where most die away by themselves, and else as the
/// instrument's plan has it.
pub fn kind_offered(planned: Kind, heard: &[HeardInFile]) -> Kind {
    let has_loop = |of: &HeardInFile| of.inside.is_some_and(|inside| inside.looped.is_some());
    let known = heard.iter().filter_map(|of| of.dies_away);
    let (dying, held) = known.fold((0, 0), |(a, b), dies| if dies { (a + 1, b) } else { (a, b + 1) });
    match (heard.iter().any(has_loop), planned.loops()) {
        (true, false) => Kind::Sustained,
        (false, true) if dying > held => Kind::Struck,
        _ => planned,
    }
}

/// The rung of a file: its name's, moved by the habit; a note without octave in the octave that is heard; else what stands inside or is
/// heard.
pub fn rung_of(guess: &NameGuess, heard: &HeardInFile, shift: i16) -> Option<u8> {
    let sure = heard.sure_key();
    let named = guess.key.map(|key| i16::from(key) + shift);
    let in_octave = || {
        let (note, heard) = (i16::from(guess.note?), i16::from(sure?));
        let off = (note - heard).rem_euclid(12);
        Some(heard + if off > 6 { off - 12 } else { off })
    };
    let inside = || heard.inside.and_then(|inside| inside.root_key).map(i16::from);
    let key = named.or_else(in_octave).or_else(inside).or(sure.map(i16::from))?;
    u8::try_from(key).ok().filter(|key| *key <= 127)
}

/// In semitones: what lies further from its note is another one.
const ANOTHER_NOTE: f64 = 0.6;

/// Whether what is heard is another note than that which its name or the file itself gives. That of a chord is not heard as one.
pub fn contradicts(guess: &NameGuess, heard: &HeardInFile, key: Option<u8>) -> bool {
    let told =
        guess.key.is_some() || guess.note.is_some() || heard.inside.is_some_and(|i| i.root_key.is_some());
    let (Some(key), Some(sounds)) = (key.filter(|_| told && guess.chord.is_none()), heard.sure_key()) else {
        return false;
    };
    let off = f64::from(sounds) + heard.cents.unwrap_or(0.0) / 100.0 - f64::from(key);
    off.abs() > ANOTHER_NOTE
}

/// What does not agree between a name, a sound and the rung that follows, in sentences.
pub fn says_of(guess: &NameGuess, heard: &HeardInFile, key: Option<u8>) -> Vec<String> {
    let name = |key: u8| key_name(key, MiddleC::C4);
    let named = guess.key.is_some() || guess.note.is_some();
    let inside = heard.inside.and_then(|inside| inside.root_key);
    let mut says = Vec::new();
    if heard.silent {
        says.push("It is silent: not a sample of it is anything but 0.".to_owned());
    }
    match (key, heard.sure_key()) {
        (Some(key), Some(sounds)) if key != sounds => {
            let (says_it, sounds_as) = (
                format!("{} {}", if named { "Named" } else { "Its file says" }, name(key)),
                name(sounds),
            );
            says.push(if guess.chord.is_some() {
                format!("{} is the note of a chord; {sounds_as} is heard.", name(key))
            } else if key.abs_diff(sounds) % 12 == 0 {
                let octaves = key.abs_diff(sounds) / 12;
                let off = if octaves == 1 {
                    "an octave".to_owned()
                } else {
                    format!("{octaves} octaves")
                };
                format!("{says_it}, heard {off} off: {sounds_as}.")
            } else if key.abs_diff(sounds) > 2 {
                format!("{says_it}, heard {sounds_as}: a chord or a phrase, or another note.")
            } else {
                format!("{says_it}, heard {sounds_as}.")
            });
        }
        (None, None) => says.push("Neither its name nor its sound tells a note.".to_owned()),
        (Some(_), None) if !named => says.push("The note stands inside the file.".to_owned()),
        (Some(_), Some(_)) if !named => says.push("The note is the one heard.".to_owned()),
        _ => {}
    }
    if let (true, Some(key), Some(inside)) = (named, key, inside)
        && key != inside
    {
        says.push(format!("The root inside the file is {}.", name(inside)));
    }
    says
}

/// A file's place.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct PlacedFile {
    /// Which file.
    pub file: u64,
    /// The file of its right side, where it holds the left one alone.
    #[serde(default)]
    pub right: Option<u64>,
    /// Its rung.
    pub key: u8,
    /// Its layer, from soft.
    #[serde(default)]
    pub layer: u16,
    /// Its turn, from 0.
    #[serde(default)]
    pub round_robin: u16,
    /// It sounds when the key comes up.
    #[serde(default)]
    pub key_up: bool,
    /// Where it was heard from.
    #[serde(default)]
    pub mic: Option<String>,
    /// The pass that it goes to; the first that sounds on the same, where it is left out.
    #[serde(default)]
    pub pass: Option<PassId>,
}

impl PlacedFile {
    /// The files of it.
    pub fn files(&self) -> impl Iterator<Item = u64> {
        std::iter::once(self.file).chain(self.right)
    }
}

/// The mics of some files, in the order in which they come.
pub fn mics_of(files: &[PlacedFile]) -> Vec<String> {
    let mut mics: Vec<String> = Vec::new();
    for mic in files.iter().filter_map(|placed| placed.mic.as_ref()) {
        if !mics.contains(mic) {
            mics.push(mic.clone());
        }
    }
    mics
}

/// A plan that has a cell for every file, and those cells.
///
/// What is new in it is named by `fresh_name`, which gives none twice.
///
/// # Errors
/// A sentence, where the files do not fit the instrument.
pub fn plan_with(
    base: Option<Plan>,
    kind: Kind,
    names: &[String],
    files: &[PlacedFile],
    mics: &[String],
    (rate_hz, channels): (u32, u16),
    fresh_name: &mut dyn FnMut() -> u64,
) -> Result<(Plan, Vec<Cell>), String> {
    let fresh = base.is_none();
    let mut plan = base.unwrap_or_else(|| {
        let mut plan = first_plan(kind, How::Files, PAGE_RIG).plan;
        plan.passes.clear();
        plan.rate_hz = rate_hz;
        plan.channels = (channels / mics.len().max(1) as u16).clamp(1, 2);
        if mics.len() > 1 {
            plan.mics = mics.to_vec();
        }
        plan
    });
    if mics.len() > 1 && plan.mics != mics {
        return Err("These files have other mics than the instrument: make a new one of them.".into());
    }
    if fresh {
        plan.kind = kind;
    }
    let mut cells = Vec::with_capacity(files.len());
    for placed in files {
        let sounds_on = if placed.key_up {
            SoundsOn::KeyUp
        } else {
            SoundsOn::KeyDown
        };
        let found = match placed.pass.filter(|_| !fresh) {
            Some(id) => {
                let place = plan.passes.iter().position(|pass| pass.id == id);
                Some(place.ok_or("The pass of these keys is gone: look at the map again.")?)
            }
            None => plan.passes.iter().position(|pass| pass.sounds_on == sounds_on),
        };
        let index = found.unwrap_or_else(|| {
            let name = if placed.key_up { "Key up" } else { "Keys" };
            let id = PassId(fresh_name());
            plan.passes.push(Pass::of_files(id, name.to_owned(), sounds_on));
            plan.passes.len() - 1
        });
        let pass = &mut plan.passes[index];
        if let Err(at) = pass.rungs.binary_search(&placed.key) {
            pass.rungs.insert(at, placed.key);
        }
        let wanted = usize::from(placed.layer) + 1;
        if pass.layers.len() < wanted.max(if fresh { names.len() } else { 0 }) {
            let mut layers = layers_named(names, wanted.max(names.len()));
            for (n, layer) in layers.iter_mut().enumerate() {
                // What takes refer to keeps its name.
                layer.id = pass
                    .layers
                    .get(n)
                    .map_or_else(|| LayerId(fresh_name()), |of| of.id);
            }
            pass.layers = layers;
        }
        pass.round_robins = pass.round_robins.max(u32::from(placed.round_robin) + 1);
        cells.push(Cell {
            pass: pass.id,
            key: placed.key,
            layer: pass.layers[usize::from(placed.layer)].id,
            round_robin: placed.round_robin,
        });
    }
    plan.check().map_err(|error| error.to_string())?;
    Ok((plan, cells))
}

/// How takes of files share the keys, where the rule's own habit would leave keys silent: one rung plays on all keys, and no gap is too wide.
pub fn map_of_files(plan: &Plan) -> Option<MapSettings> {
    let habit = MapSettings::default();
    // Sounds of a kit have a key each.
    if plan.kind == Kind::Drum && plan.passes.iter().any(|pass| pass.rungs.len() > 1) {
        return Some(MapSettings {
            fill: Fill::None,
            below_keys: 0,
            above_keys: 0,
            ..habit
        });
    }
    let rungs = |pass: &Pass| match pass.rungs[..] {
        [_] => (127, 127),
        _ => (gap(&pass.rungs), 0),
    };
    let wanted = plan.passes.iter().map(rungs);
    let (reach, around) = wanted.fold((0, 0), |(a, b), (c, d)| (a.max(c), b.max(d)));
    (reach > habit.furthest_stretch_keys).then_some(MapSettings {
        furthest_stretch_keys: reach,
        below_keys: habit.below_keys.max(around),
        above_keys: habit.above_keys.max(around),
        ..habit
    })
}

/// The widest stretch down that leaves no key between rungs silent.
fn gap(rungs: &[u8]) -> u8 {
    rungs
        .windows(2)
        .map(|pair| pair[1] - pair[0] - 1)
        .max()
        .unwrap_or(0)
}

/// What a single file is made: looped where it brings a loop or is held, else struck.
pub fn kind_of_file(heard: &HeardInFile) -> Kind {
    let has_loop = heard.inside.is_some_and(|inside| inside.looped.is_some());
    if has_loop || heard.dies_away == Some(false) {
        Kind::Sustained
    } else {
        Kind::Struck
    }
}

/// Layers of these names. Names that are velocities (`v64`) are struck with them.
fn layers_named(names: &[String], count: usize) -> Vec<Layer> {
    let mut layers = even_layers(count);
    for (layer, name) in layers.iter_mut().zip(names) {
        layer.name.clone_from(name);
    }
    let velocities: Vec<u8> = names
        .iter()
        .filter_map(|name| name.strip_prefix('v')?.parse().ok())
        .filter(|velocity| (1..=127).contains(velocity))
        .collect();
    // Layers that are numbered from 1 are no velocities.
    let are_velocities =
        velocities.len() == count && velocities.last().is_some_and(|v| usize::from(*v) > 16.max(count));
    if are_velocities {
        for (layer, velocity) in layers.iter_mut().zip(velocities) {
            layer.strike_velocity = velocity;
        }
    }
    layers
}

#[cfg(test)]
mod tests {
    use super::*;

    fn placed(file: u64, key: u8, layer: u16, round_robin: u16, key_up: bool) -> PlacedFile {
        PlacedFile {
            file,
            right: None,
            key,
            layer,
            round_robin,
            key_up,
            mic: None,
            pass: None,
        }
    }

    const FORM: (u32, u16) = (44_100, 1);

    /// Names from 7 on.
    fn counting() -> impl FnMut() -> u64 {
        let mut names = 7..;
        move || names.next().unwrap_or_default()
    }

    #[test]
    fn a_plan_is_made_from_the_files_and_widened_by_more() {
        let names = ["v40".to_owned(), "v110".to_owned()];
        let files = [
            placed(1, 60, 0, 0, false),
            placed(2, 48, 1, 1, false),
            placed(3, 60, 0, 0, true),
        ];
        let (plan, cells) =
            plan_with(None, Kind::Struck, &names, &files, &[], FORM, &mut counting()).unwrap();
        assert_eq!(plan.passes.len(), 2);
        assert_eq!(
            (&plan.passes[0].rungs[..], plan.passes[0].round_robins),
            (&[48, 60][..], 2)
        );
        let strikes: Vec<u8> = plan.passes[0].layers.iter().map(|l| l.strike_velocity).collect();
        assert_eq!((strikes, plan.rate_hz, plan.channels), (vec![40, 110], 44_100, 1));
        assert_eq!(cells[2].pass, plan.passes[1].id);
        let more = [placed(4, 54, 0, 0, false)];
        let (wider, cells) = plan_with(
            Some(plan.clone()),
            Kind::Struck,
            &[],
            &more,
            &[],
            FORM,
            &mut counting(),
        )
        .unwrap();
        assert_eq!(wider.passes[0].rungs, [48, 54, 60]);
        assert_eq!((wider.passes.len(), cells[0].pass), (2, plan.passes[0].id));
        // To a pass by its name, whatever it sounds on; one that is gone is none.
        let of_pass = |id| {
            let there = [PlacedFile {
                pass: Some(id),
                ..placed(5, 61, 0, 0, false)
            }];
            plan_with(
                Some(plan.clone()),
                Kind::Struck,
                &[],
                &there,
                &[],
                FORM,
                &mut counting(),
            )
        };
        let (wider, cells) = of_pass(plan.passes[1].id).unwrap();
        assert_eq!(
            (&wider.passes[1].rungs[..], cells[0].pass),
            (&[60, 61][..], plan.passes[1].id)
        );
        assert!(of_pass(PassId(99)).is_err());
        // Other mics than the instrument has do not fit.
        let mics = ["close".to_owned(), "room".to_owned()];
        assert!(plan_with(Some(plan), Kind::Struck, &[], &more, &mics, FORM, &mut counting()).is_err());
    }

    #[test]
    fn files_leave_no_key_silent_between_them() {
        let map_of = |rungs: &[u8]| {
            let files: Vec<PlacedFile> = rungs.iter().map(|&key| placed(1, key, 0, 0, false)).collect();
            map_of_files(
                &plan_with(None, Kind::Struck, &[], &files, &[], FORM, &mut counting())
                    .unwrap()
                    .0,
            )
        };
        assert_eq!(map_of(&[48, 60]), None);
        assert_eq!(map_of(&[36, 60]).unwrap().furthest_stretch_keys, 23);
        let one = map_of(&[60]).unwrap();
        assert_eq!((one.below_keys, one.above_keys), (127, 127));
    }

    #[test]
    fn loops_inside_files_tell_what_they_are() {
        assert_eq!(kind_of_files(Kind::Drum, true, true), Kind::Sustained);
        assert_eq!(kind_of_files(Kind::Pad, true, true), Kind::Pad);
        assert_eq!(kind_of_files(Kind::Pad, false, true), Kind::Struck);
        assert_eq!(kind_of_files(Kind::Voice, false, false), Kind::Voice);
        let heard = |dies, looped| HeardInFile {
            dies_away: Some(dies),
            inside: Some(Inside {
                looped,
                ..Inside::default()
            }),
            ..HeardInFile::default()
        };
        let looped = Some(crate::InsideLoop {
            start_frame: 10,
            end_frame: 20,
        });
        let (dying, held) = (heard(true, None), heard(false, None));
        let two_of_three = [dying.clone(), held.clone(), dying.clone()];
        assert_eq!(kind_offered(Kind::Pad, &two_of_three), Kind::Struck);
        assert_eq!(kind_offered(Kind::Plucked, &two_of_three), Kind::Plucked);
        assert_eq!(
            kind_offered(Kind::Pad, &[held.clone(), held.clone(), dying.clone()]),
            Kind::Pad
        );
        assert_eq!(
            kind_offered(Kind::Struck, &[heard(true, looped), dying.clone()]),
            Kind::Sustained
        );
        assert_eq!(
            [
                kind_of_file(&dying),
                kind_of_file(&held),
                kind_of_file(&heard(true, looped))
            ],
            [Kind::Struck, Kind::Sustained, Kind::Sustained]
        );
    }

    #[test]
    fn numbered_layers_are_no_velocities() {
        let strikes = |names: &[&str]| -> Vec<u8> {
            let names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
            layers_named(&names, names.len())
                .iter()
                .map(|l| l.strike_velocity)
                .collect()
        };
        assert_eq!(
            strikes(&["v1", "v2"]),
            even_layers(2)
                .iter()
                .map(|l| l.strike_velocity)
                .collect::<Vec<u8>>()
        );
        assert_eq!(strikes(&["v31", "v64", "v127"]), [31, 64, 127]);
    }

    #[test]
    fn an_octave_is_taken_from_what_is_heard() {
        let guess = |key, note| NameGuess {
            key,
            note,
            ..NameGuess::default()
        };
        let heard = |key| HeardInFile {
            key: Some(key),
            confidence: 0.9,
            ..HeardInFile::default()
        };
        assert_eq!(rung_of(&guess(None, Some(6)), &heard(67), 0), Some(66));
        assert_eq!(rung_of(&guess(None, Some(0)), &heard(71), 0), Some(72));
        assert_eq!(rung_of(&guess(Some(48), None), &heard(60), 12), Some(60));
        assert_eq!(rung_of(&guess(None, None), &heard(50), 12), Some(50));
        assert_eq!(rung_of(&guess(None, None), &HeardInFile::default(), 0), None);
        assert!(says_of(&guess(Some(60), None), &heard(66), Some(60))[0].contains("chord or a phrase"));
        assert!(says_of(&guess(Some(36), None), &heard(60), Some(36))[0].contains("2 octaves off"));
    }

    #[test]
    fn a_note_that_is_another_one_is_told_from_one_that_is_out_of_tune() {
        let named = NameGuess {
            key: Some(60),
            ..NameGuess::default()
        };
        let heard = |key, cents| HeardInFile {
            key: Some(key),
            cents: Some(cents),
            confidence: 0.9,
            ..HeardInFile::default()
        };
        assert!(!contradicts(&named, &heard(61, -45.0), Some(60)));
        assert!(contradicts(&named, &heard(61, 10.0), Some(60)));
        assert!(contradicts(&named, &heard(48, 0.0), Some(60)));
        // Nothing told a note but the sound itself; and a chord is none.
        assert!(!contradicts(&NameGuess::default(), &heard(61, 10.0), Some(60)));
        let chord = NameGuess {
            chord: Some("m7".to_owned()),
            ..named
        };
        assert!(!contradicts(&chord, &heard(64, 0.0), Some(60)));
        // What stands inside a file is told like a name.
        let inside = HeardInFile {
            inside: Some(Inside {
                root_key: Some(60),
                ..Inside::default()
            }),
            ..heard(62, 0.0)
        };
        assert!(contradicts(&NameGuess::default(), &inside, Some(60)));
        let says = says_of(&NameGuess::default(), &inside, Some(60));
        assert_eq!(says, ["Its file says C4, heard D4."]);
    }
}
