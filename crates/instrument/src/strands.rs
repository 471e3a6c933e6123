//! What was said of strands, laid over those that the rule makes of passes; copies of them; and strands that share out keys, strikes or a controller.

use crate::by_hand::lay_by_hand_of;
use crate::effects::lay_effects;
use crate::facts::said_about;
use crate::limits::{ByController, ByKey, faded, within};
use crate::shaping::{lay_shapes, reasons_of, reasons_of_brought};
use crate::{About, Fact, Facts, Reason, Said, Target, Wish};
use program::{
    BEND_KEYS, BendKeys, ChosenBy, Movement, MovementId, Program, Rate, ShapeId, Source, Stays, Strand,
    StrandId, Switch, SwitchId, Turn, Wave, velocity_gain_db,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::HashMap;
use utoipa::ToSchema;

/// How a strand is named where something is said of it, and what was.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct StrandSaid {
    /// Its name for good.
    pub id: StrandId,
    /// The strand that it is a copy of.
    pub copy_of: Option<StrandId>,
    /// What was set by hand.
    pub by_hand: Vec<Fact>,
    /// The controller that chooses it.
    pub controller: Option<ByController>,
    /// The key that does.
    pub by_key: Option<ByKey>,
    /// What cuts it off.
    pub cut_by: Option<StrandId>,
    /// Keys over which it comes and goes at its lowest and highest.
    pub keys_fade: u8,
    /// Strikes over which it does.
    pub strikes_fade: u8,
    /// How far the bend reaches.
    pub bend: BendKeys,
    /// By how much the strike lowers the softest under the hardest, in dB.
    pub strike_range_db: f64,
    /// Why its shape is at first as it is, value by value.
    pub shape_reasons: Vec<Reason>,
}

/// The same of every strand, in the program's order. What is as it was brought has no other reason.
pub fn said_of_strands(program: &Program, said: &Facts, as_brought: bool) -> Vec<StrandSaid> {
    let of = |strand: &Strand| {
        let target = Target::Strand(strand.id);
        StrandSaid {
            id: strand.id,
            copy_of: copy_of(said, strand.id),
            by_hand: Fact::of(About::Strand)
                .filter(|fact| said.contains_key(&(target, *fact)))
                .collect(),
            controller: said_about::<Option<ByController>>(said, target, Fact::StrandController).flatten(),
            by_key: said_about::<Option<ByKey>>(said, target, Fact::StrandByKey).flatten(),
            cut_by: cutting(program, strand),
            keys_fade: said_about(said, target, Fact::StrandKeysFade).unwrap_or(0),
            strikes_fade: said_about(said, target, Fact::StrandStrikesFade).unwrap_or(0),
            bend: strand.voices.bend.unwrap_or(BEND_KEYS),
            strike_range_db: -velocity_gain_db(1, program.loudness_of(Some(strand)).velocity_to_level),
            shape_reasons: if as_brought {
                reasons_of_brought()
            } else {
                reasons_of(program, strand)
            },
        }
    };
    program.strands.iter().map(of).collect()
}

/// The strand that one is a copy of, as it was said.
pub(crate) fn copy_of(said: &Facts, id: StrandId) -> Option<StrandId> {
    said_about::<Option<u64>>(said, Target::Strand(id), Fact::StrandCopyOf)
        .flatten()
        .map(StrandId)
}

/// The strand that cuts another off, whoever said so.
fn cutting(program: &Program, strand: &Strand) -> Option<StrandId> {
    let by = strand.cut.by?;
    let of_group = |other: &&Strand| other.cut.group == Some(by);
    program.strands.iter().find(of_group).map(|other| other.id)
}

/// Lays what was said over the strands of a program, adds the copies that were made of them, and puts all in their order.
pub fn lay_strands(program: &mut Program, said: &Facts) {
    for n in 0..program.strands.len() {
        lay_over_one(&mut program.strands[n], said);
    }
    let mut places: HashMap<StrandId, f64> = HashMap::new();
    for (place, strand) in program.strands.iter().enumerate() {
        places.insert(strand.id, place_of(said, strand.id).unwrap_or(place as f64));
    }
    let copies: Vec<(StrandId, StrandId)> = (said.keys())
        .filter_map(|(target, fact)| match (target, fact) {
            (Target::Strand(id), Fact::StrandCopyOf) => Some((*id, copy_of(said, *id)?)),
            _ => None,
        })
        .filter(|(id, _)| !places.contains_key(id))
        .collect();
    for (n, (id, of)) in copies.into_iter().enumerate() {
        if let Some(place) = places.get(&of).copied() {
            add_copy(program, said, id, of);
            // Behind what it is a copy of, in the order of their names, where nothing was said.
            let behind = place + 0.5 + n as f64 * 1e-6;
            places.insert(id, place_of(said, id).unwrap_or(behind));
        }
    }
    let place = |id: StrandId| places.get(&id).copied().unwrap_or(f64::MAX);
    program
        .strands
        .sort_by(|a, b| place(a.id).total_cmp(&place(b.id)));
    let order: HashMap<StrandId, usize> = (program.strands.iter().enumerate())
        .map(|(n, strand)| (strand.id, n))
        .collect();
    (program.regions).sort_by_key(|region| order.get(&region.key.strand).copied());
    add_switch(program, said);
    take_turns(program, said);
    cut_off(program, said, &order);
    lay_shapes(program, said);
    lay_effects(program, said);
}

fn place_of(said: &Facts, id: StrandId) -> Option<f64> {
    said_about::<Option<f64>>(said, Target::Strand(id), Fact::StrandPlace).flatten()
}

/// A copy plays the regions of another strand as that does, but for what was said of it.
fn add_copy(program: &mut Program, said: &Facts, id: StrandId, of: StrandId) {
    let Some(original) = program.strand(of).cloned() else {
        return;
    };
    let before = program
        .strands
        .iter()
        .filter(|strand| copy_of(said, strand.id) == Some(of));
    let mut copy = Strand {
        id,
        name: format!("{} {}", original.name, before.count() + 2),
        regions_of: Some(of),
        ..original
    };
    lay_over_one(&mut copy, said);
    let mut regions: Vec<_> = program.regions_of(of).cloned().collect();
    for region in &mut regions {
        region.key.strand = id;
        lay_by_hand_of(region, said);
    }
    program.strands.push(copy);
    program.regions.extend(regions);
}

fn lay_over_one(strand: &mut Strand, said: &Facts) {
    let target = Target::Strand(strand.id);
    fn of<T: serde::de::DeserializeOwned>(said: &Facts, target: Target, fact: Fact) -> Option<T> {
        said_about(said, target, fact)
    }
    let number = |fact| of::<f64>(said, target, fact);
    let step = |fact| of::<u8>(said, target, fact);
    if let Some(name) = of(said, target, Fact::StrandName) {
        strand.name = name;
    }
    strand.on = of(said, target, Fact::StrandOn).unwrap_or(strand.on);
    strand.muted = of(said, target, Fact::StrandMuted).unwrap_or(strand.muted);
    strand.gain_db = number(Fact::StrandGainDb).unwrap_or(strand.gain_db);
    strand.pan = number(Fact::StrandPan).unwrap_or(strand.pan);
    strand.tune_cents = number(Fact::StrandTuneCents).unwrap_or(strand.tune_cents);
    let transposed = number(Fact::StrandTransposeKeys).map(|keys| keys.round() as i8);
    strand.transpose_keys = transposed.unwrap_or(strand.transpose_keys);
    let bend = strand.voices.bend.unwrap_or(BEND_KEYS);
    let (up, down) = (step(Fact::StrandBendUp), step(Fact::StrandBendDown));
    if up.or(down).is_some() {
        strand.voices.bend = Some(BendKeys {
            up: up.unwrap_or(bend.up),
            down: down.unwrap_or(bend.down),
        });
    }
    let voices = &mut strand.voices;
    voices.most = of(said, target, Fact::StrandMostVoices).unwrap_or(voices.most);
    voices.goes_first = of(said, target, Fact::StrandGoesFirst).unwrap_or(voices.goes_first);
    voices.same_key = of(said, target, Fact::StrandSameKey).unwrap_or(voices.same_key);
    voices.glide = of(said, target, Fact::StrandGlide).unwrap_or(voices.glide);
    let when = &mut strand.when;
    let limits = |fade, low, high| (step(fade), step(low), step(high));
    if let (fade, low, high) = limits(Fact::StrandKeysFade, Fact::StrandLowKey, Fact::StrandHighKey)
        && (fade, low, high) != (None, None, None)
    {
        when.keys = faded(
            (low.unwrap_or(0), high.unwrap_or(127)),
            fade.unwrap_or(0),
            (0, 127),
        );
    }
    if let (fade, low, high) = limits(
        Fact::StrandStrikesFade,
        Fact::StrandLowStrike,
        Fact::StrandHighStrike,
    ) && (fade, low, high) != (None, None, None)
    {
        when.strikes = faded(
            (low.unwrap_or(1), high.unwrap_or(127)),
            fade.unwrap_or(0),
            (1, 127),
        );
    }
    if let Some(by) = of::<Option<ByController>>(said, target, Fact::StrandController) {
        when.sources = by.map(within).into_iter().collect();
    }
}

/// The keys that choose are one switch; the first strand that has one is chosen at first.
fn add_switch(program: &mut Program, said: &Facts) {
    const CHOOSING: SwitchId = SwitchId(0);
    let by_key = |id| said_about::<Option<ByKey>>(said, Target::Strand(id), Fact::StrandByKey).flatten();
    let keys: Vec<u8> = (program.strands.iter())
        .filter_map(|strand| by_key(strand.id))
        .map(|by| by.key)
        .collect();
    let (Some(&low_key), Some(&high_key), Some(&at_first)) =
        (keys.iter().min(), keys.iter().max(), keys.first())
    else {
        return;
    };
    program.switches.push(Switch {
        id: CHOOSING,
        name: "Keys that choose".into(),
        low_key,
        high_key,
        at_first,
    });
    for strand in &mut program.strands {
        if let Some(by) = by_key(strand.id) {
            strand.when.chosen_by = Some(ChosenBy {
                switch: CHOOSING,
                low_key: by.key,
                high_key: by.key,
                stays: if by.held { Stays::Held } else { Stays::Latched },
            });
        }
    }
}

fn take_turns(program: &mut Program, said: &Facts) {
    let takes = |strand: &Strand| {
        said_about::<bool>(said, Target::Strand(strand.id), Fact::StrandTakesTurns) == Some(true)
    };
    let of = program.strands.iter().filter(|strand| takes(strand)).count() as u16;
    if of > 1 {
        let in_turn = program.strands.iter_mut().filter(|strand| takes(strand));
        for (place, strand) in (0..).zip(in_turn) {
            strand.when.turn = Turn::InOrder { place, of };
        }
    }
}

/// A strand that cuts others off is a group of its own.
fn cut_off(program: &mut Program, said: &Facts, order: &HashMap<StrandId, usize>) {
    // Groups that were brought keep their numbers; those of strands follow them.
    let cuts = (program.strands.iter().map(|strand| strand.cut))
        .chain(program.regions.iter().map(|region| region.cut));
    let last = cuts
        .flat_map(|cut| [cut.group, cut.by])
        .flatten()
        .max()
        .unwrap_or(0);
    let groups: HashMap<StrandId, u32> = (program.strands.iter())
        .filter_map(|strand| {
            let place = *order.get(&strand.id)? as u32;
            Some((
                strand.id,
                strand.cut.group.unwrap_or(last.saturating_add(place + 1)),
            ))
        })
        .collect();
    let cutting: HashMap<StrandId, Option<StrandId>> = (program.strands.iter())
        .filter_map(|strand| {
            let by = said_about::<Option<u64>>(said, Target::Strand(strand.id), Fact::StrandCutBy)?;
            Some((strand.id, by.map(StrandId)))
        })
        .collect();
    for strand in &mut program.strands {
        let target = Target::Strand(strand.id);
        if let Some(by) = cutting.get(&strand.id) {
            strand.cut.by = by.and_then(|by| groups.get(&by).copied());
        }
        if cutting.values().any(|by| *by == Some(strand.id)) {
            strand.cut.group = groups.get(&strand.id).copied();
        }
        if let Some(fade_ms) = said_about::<f64>(said, target, Fact::StrandCutFadeMs) {
            strand.cut.fade_ms = fade_ms as u32;
        }
    }
}

/// Copies of a strand that sound with it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Copies {
    /// How many sound then, the strand itself among them: 2 to 8.
    pub sound: u8,
    /// Keys up that the copies sound.
    pub transpose_keys: i8,
    /// They lie as far apart in pitch, each from the next.
    pub detune_cents: f64,
    /// How far they lie to the sides: 0 all in the middle, 1 from side to side.
    pub spread: f64,
}

/// Most that sound together by [`copies`].
const MOST_COPIES: u8 = 8;

/// What makes copies of a strand: all that sound then lie evenly around where it was, in pitch and from left to right.
pub fn copies(
    program: &Program,
    said: &Facts,
    of: StrandId,
    wish: Copies,
    fresh: &mut dyn FnMut() -> u64,
) -> Vec<Wish> {
    let Some(strand) = program.strand(of) else {
        return Vec::new();
    };
    let sound = wish.sound.clamp(2, MOST_COPIES);
    let root = copy_of(said, of).unwrap_or(of);
    let mut wishes = Vec::new();
    for n in 0..sound {
        // −1 to 1.
        let share = 2.0 * f64::from(n) / f64::from(sound - 1) - 1.0;
        let id = if n == 0 { of } else { StrandId(fresh()) };
        let mut say = |fact: Fact, value: Value| {
            wishes.push(Wish::from((Target::Strand(id), fact, Said::Value(value))));
        };
        if n > 0 {
            say(Fact::StrandCopyOf, json!(root.0));
            // What was said of the one that is copied holds of its copy.
            for ((_, fact), value) in said
                .range((Target::Strand(of), Fact::StrandCopyOf)..)
                .take_while(|((target, _), _)| *target == Target::Strand(of))
            {
                if !matches!(fact, Fact::StrandCopyOf | Fact::StrandName | Fact::StrandPlace) {
                    say(*fact, value.clone());
                }
            }
        }
        let width = f64::from(sound - 1) / 2.0 * wish.detune_cents;
        if wish.detune_cents != 0.0 {
            say(Fact::StrandTuneCents, json!(strand.tune_cents + share * width));
        }
        if wish.spread != 0.0 {
            say(
                Fact::StrandPan,
                json!((strand.pan + share * wish.spread).clamp(-1.0, 1.0)),
            );
        }
        if n > 0 && wish.transpose_keys != 0 {
            say(
                Fact::StrandTransposeKeys,
                json!(strand.transpose_keys + wish.transpose_keys),
            );
        }
    }
    wishes
}

/// What strands share out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Over {
    /// The keys on which any of them sounds: a split.
    Keys,
    /// The strikes.
    Strikes,
    /// A controller.
    Controller(u8),
    /// A slow movement, which each gets: they go round together.
    Movement,
}

/// The slow movement by which strands share out what is heard.
const SHARED_MOVEMENT: u64 = 130;
/// So fast at first, in rounds a second.
const SHARED_HZ: f64 = 0.25;

/// What lets strands share something out evenly, in their order, each fading into the next over so many steps.
pub fn share_out(program: &Program, strands: &[StrandId], over: Over, fade: u8) -> Vec<Wish> {
    let mut of: Vec<StrandId> = (program.strands.iter())
        .map(|strand| strand.id)
        .filter(|id| strands.contains(id))
        .collect();
    of.dedup();
    let count = of.len() as u32;
    if count == 0 {
        return Vec::new();
    }
    let keys = (program.regions.iter())
        .filter(|region| of.contains(&region.key.strand))
        .map(|region| region.when.keys);
    let (first, last) = match over {
        Over::Keys => {
            let lowest = keys.clone().map(|span| span.low).min().unwrap_or(0);
            (lowest, keys.map(|span| span.high).max().unwrap_or(127))
        }
        Over::Strikes => (1, 127),
        Over::Controller(_) | Over::Movement => (0, 127),
    };
    let steps = u32::from(last - first) + 1;
    let begins = |n: u32| u32::from(first) + steps * n / count;
    let mut wishes = Vec::new();
    for (n, id) in (0..).zip(of) {
        // The outermost reach to the ends of the axis.
        let low = if n == 0 { None } else { Some(begins(n) as u8) };
        let high = if n + 1 == count {
            None
        } else {
            Some((begins(n + 1) - 1) as u8)
        };
        let mut say = |fact: Fact, value: Option<Value>| {
            let after = value.map_or(Said::Automatic, Said::Value);
            wishes.push(Wish::from((Target::Strand(id), fact, after)));
        };
        let fade_of = || (fade > 0).then(|| json!(fade));
        match over {
            Over::Keys => {
                say(Fact::StrandLowKey, low.map(|key| json!(key)));
                say(Fact::StrandHighKey, high.map(|key| json!(key)));
                say(Fact::StrandKeysFade, fade_of());
            }
            Over::Strikes => {
                say(Fact::StrandLowStrike, low.map(|key| json!(key)));
                say(Fact::StrandHighStrike, high.map(|key| json!(key)));
                say(Fact::StrandStrikesFade, fade_of());
            }
            Over::Controller(_) | Over::Movement => say(
                Fact::StrandController,
                Some(json!(ByController {
                    controller: if let Over::Controller(number) = over {
                        number
                    } else {
                        1
                    },
                    low: low.unwrap_or(0),
                    high: high.unwrap_or(127),
                    fade,
                    source: (over == Over::Movement).then_some(Source::Movement(MovementId(SHARED_MOVEMENT))),
                })),
            ),
        }
        if over == Over::Movement {
            let target = Target::Movement(ShapeId::of_strand(id), SHARED_MOVEMENT);
            let movement = Movement {
                id: MovementId(SHARED_MOVEMENT),
                wave: Wave::Sine,
                rate: Rate::Hz(SHARED_HZ),
                phase: 0.0,
                delay_ms: 0.0,
                fade_in_ms: 0.0,
                per_voice: false,
                once: false,
            };
            wishes.push(Wish::from((target, Fact::Movement, Said::Value(json!(movement)))));
        }
    }
    wishes
}

/// Keys outside of what sounds, for strands to be chosen by: the first free ones below the lowest key, from an octave's C on where there is room.
pub fn choosing_keys(program: &Program, count: usize) -> Vec<u8> {
    let lowest = program
        .regions
        .iter()
        .map(|region| region.when.keys.low)
        .min()
        .unwrap_or(60);
    let octave = (lowest / 12).saturating_sub(1) * 12;
    let first = if usize::from(octave) + count <= usize::from(lowest) {
        octave
    } else {
        0
    };
    (first..=127).take(count).collect()
}

/// What lets each of some strands be chosen by a key of its own.
pub fn choose_by_keys(program: &Program, strands: &[StrandId]) -> Vec<Wish> {
    let of = program
        .strands
        .iter()
        .map(|strand| strand.id)
        .filter(|id| strands.contains(id));
    let keys = choosing_keys(program, strands.len());
    of.zip(keys)
        .map(|(id, key)| {
            let by = json!(ByKey { key, held: false });
            Wish::from((Target::Strand(id), Fact::StrandByKey, Said::Value(by)))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, lay_over};
    use program::{On, Region, RegionOf, Shape, ShapeId, Span};

    const FRONT: StrandId = StrandId(3);
    const BACK: StrandId = StrandId(8);

    /// Two strands of two regions each.
    fn program() -> Program {
        let mut program = Program {
            shapes: vec![Shape::default()],
            strands: vec![
                Strand::new(FRONT, "Front", ShapeId(0)),
                Strand::new(BACK, "Back", ShapeId(0)),
            ],
            ..Program::default()
        };
        for (strand, n) in [(FRONT, 0u64), (FRONT, 1), (BACK, 0), (BACK, 1)] {
            let low = 40 + 20 * n as u8;
            let mut region = Region::whole(0, low, 100).on_keys(low, low + 19);
            (region.key.strand, region.key.of) = (strand, RegionOf::Own(n));
            program.regions.push(region);
        }
        program
    }

    fn with(said: &Facts) -> Program {
        let mut program = program();
        lay_strands(&mut program, said);
        program
    }

    fn facts(wishes: Vec<Wish>) -> Facts {
        let mut said = Facts::new();
        let change = Change::propose("x", &said, wishes).unwrap();
        lay_over(&mut said, &change.fields);
        said
    }

    fn say(strand: StrandId, fact: Fact, value: Value) -> Wish {
        Wish::from((Target::Strand(strand), fact, Said::Value(value)))
    }

    #[test]
    fn what_was_said_of_a_strand_stands() {
        let said = facts(vec![
            say(FRONT, Fact::StrandName, json!("Flutes")),
            say(FRONT, Fact::StrandGainDb, json!(-3)),
            say(FRONT, Fact::StrandTransposeKeys, json!(-12)),
            say(
                FRONT,
                Fact::StrandOn,
                json!({"key_up": {"pedal_holds": true, "fall_db_per_s": 6.0}}),
            ),
            say(BACK, Fact::StrandPlace, json!(-1)),
            say(BACK, Fact::StrandMuted, json!(true)),
            say(FRONT, Fact::StrandBendDown, json!(12)),
            say(FRONT, Fact::StrandMostVoices, json!(9)),
            say(FRONT, Fact::StrandSameKey, json!("cuts")),
            say(
                FRONT,
                Fact::StrandGlide,
                json!({"ms": 80.0, "per_octave": true, "legato_only": false}),
            ),
        ]);
        let program = with(&said);
        let names: Vec<&str> = program
            .strands
            .iter()
            .map(|strand| strand.name.as_str())
            .collect();
        assert_eq!(names, ["Back", "Flutes"]);
        assert!(program.strands[0].muted && !program.strands[1].muted);
        let flutes = &program.strands[1];
        assert_eq!((flutes.gain_db, flutes.transpose_keys), (-3.0, -12));
        assert_eq!(flutes.voices.bend, Some(BendKeys { up: 2, down: 12 }));
        assert_eq!(flutes.voices.most, Some(9));
        assert_eq!(flutes.voices.same_key, program::SameKey::Cuts);
        assert_eq!(flutes.voices.glide.map(|glide| glide.ms), Some(80.0));
        assert_eq!(program.strands[0].voices, program::Voices::default());
        assert!(matches!(
            flutes.on,
            On::KeyUp {
                fall_db_per_s: 6.0,
                ..
            }
        ));
        // Regions follow their strands.
        assert_eq!(program.regions[0].key.strand, BACK);
        assert_eq!(
            said_of_strands(&program, &said, false)[0].by_hand,
            [Fact::StrandPlace, Fact::StrandMuted]
        );
    }

    #[test]
    fn three_that_sound_together_lie_evenly_in_pitch_and_from_side_to_side() {
        let first = facts(vec![say(FRONT, Fact::StrandGainDb, json!(-3))]);
        let wish = Copies {
            sound: 3,
            transpose_keys: 0,
            detune_cents: 9.0,
            spread: 0.5,
        };
        let mut names = 100..;
        let wishes = copies(&with(&first), &first, FRONT, wish, &mut || names.next().unwrap());
        let mut said = first;
        let change = Change::propose("x", &said, wishes).unwrap();
        lay_over(&mut said, &change.fields);
        let program = with(&said);
        let fronts: Vec<&Strand> = program
            .strands
            .iter()
            .filter(|strand| strand.id != BACK)
            .collect();
        let of = |strand: &&Strand| (strand.tune_cents, strand.pan, strand.gain_db);
        assert_eq!(
            fronts.iter().map(of).collect::<Vec<_>>(),
            [(-9.0, -0.5, -3.0), (0.0, 0.0, -3.0), (9.0, 0.5, -3.0)]
        );
        assert_eq!(fronts[1].name, "Front 2");
        assert_eq!(fronts[2].regions_of, Some(FRONT));
        assert_eq!(program.regions.len(), 8);
        // They share what they play, and the other strand stays where it was.
        assert_eq!(program.strands.last().map(|strand| strand.id), Some(BACK));
        // What is undone is gone.
        let undone = change.undo(&said);
        lay_over(&mut said, &undone.set);
        assert_eq!(with(&said).strands.len(), 2);
    }

    #[test]
    fn a_copy_follows_what_is_said_of_the_regions_that_it_plays() {
        let region = Target::Region(FRONT, program().regions[0].key.of.number());
        let mut said = facts(vec![
            say(StrandId(50), Fact::StrandCopyOf, json!(FRONT.0)),
            Wish::from((region, Fact::RegionHighKey, Said::Value(json!(45)))),
        ]);
        let made = |said: &Facts| {
            let mut program = program();
            crate::lay_by_hand(&mut program, said);
            lay_strands(&mut program, said);
            let copy = program.regions_of(StrandId(50)).next().unwrap();
            copy.when.keys.high
        };
        assert_eq!(made(&said), 45);
        // And has its own say.
        said.insert(
            (
                Target::Region(StrandId(50), program().regions[0].key.of.number()),
                Fact::RegionHighKey,
            ),
            json!(47),
        );
        assert_eq!(made(&said), 47);
        // A copy of what is not there is nowhere.
        said.insert((Target::Strand(StrandId(51)), Fact::StrandCopyOf), json!(77));
        assert_eq!(with(&said).strands.len(), 3);
    }

    #[test]
    fn strands_share_out_keys_strikes_a_controller_and_a_movement_and_keep_their_power() {
        for (over, steps) in [
            (Over::Keys, 40..=79),
            (Over::Strikes, 1..=127),
            (Over::Controller(1), 0..=127),
            (Over::Movement, 0..=127),
        ] {
            for fade in [0, 1, 8, 30] {
                let program = with(&facts(share_out(&program(), &[FRONT, BACK], over, fade)));
                for step in steps.clone() {
                    let gain = |strand: &Strand| match over {
                        Over::Keys => strand.when.keys.gain(step),
                        Over::Strikes => strand.when.strikes.gain(step),
                        Over::Controller(_) | Over::Movement => strand.when.sources[0].span.gain(step),
                    };
                    let power: f64 = program.strands.iter().map(|strand| gain(strand).powi(2)).sum();
                    assert!((power - 1.0).abs() < 1e-9, "{over:?} {fade} at {step}: {power}");
                }
            }
        }
        let split = with(&facts(share_out(&program(), &[FRONT, BACK], Over::Keys, 0)));
        assert_eq!(
            (split.strands[0].when.keys, split.strands[1].when.keys),
            (Span::of(0, 59), Span::of(60, 127))
        );
    }

    #[test]
    fn strands_are_chosen_by_keys_take_turns_and_cut_each_other_off() {
        let mut wishes = choose_by_keys(&program(), &[FRONT, BACK]);
        wishes.push(say(FRONT, Fact::StrandTakesTurns, json!(true)));
        wishes.push(say(BACK, Fact::StrandTakesTurns, json!(true)));
        wishes.push(say(FRONT, Fact::StrandCutBy, json!(BACK.0)));
        wishes.push(say(FRONT, Fact::StrandCutFadeMs, json!(40)));
        let program = with(&facts(wishes));
        let switch = &program.switches[0];
        assert_eq!((switch.low_key, switch.high_key, switch.at_first), (24, 25, 24));
        let chosen = |n: usize| program.strands[n].when.chosen_by.map(|by| by.low_key);
        assert_eq!((chosen(0), chosen(1)), (Some(24), Some(25)));
        assert_eq!(program.strands[1].when.turn, Turn::InOrder { place: 1, of: 2 });
        let (front, back) = (program.strands[0].cut, program.strands[1].cut);
        assert_eq!((front.by, front.fade_ms), (back.group, 40));
        assert!(front.group.is_none() && back.by.is_none() && back.group.is_some());
    }
}
