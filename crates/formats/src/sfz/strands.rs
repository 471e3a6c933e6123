//! What is said of a strand: what starts it, its voices, and the shape that it plays by.

use super::Opcodes;
use super::driven::read_driven;
use super::numbers::number_of;
use super::regions::controllers_of;
use crate::FormatError;
use crate::lower::sustain_db_of;
use program::{
    Among, BEND_KEYS, BendKeys, CurvePoint, Loudness, On, Program, SameKey, Shape, ShapeId, Strand, StrandId,
    Voices,
};

/// The shape of what is said; curves that it goes by join the program's.
pub(super) fn shape_of(
    id: ShapeId,
    group: &Opcodes,
    curves: &[(u64, Vec<CurvePoint>)],
    program: &mut Program,
) -> Result<Shape, FormatError> {
    let driving = read_driven(group, curves, program)?;
    let ms = |name: &str, default: f64| {
        Ok::<f64, FormatError>((number_of(group, name, default)? * 1000.0).round())
    };
    Ok(Shape {
        id,
        loudness: Loudness {
            delay_ms: ms("ampeg_delay", 0.0)?,
            attack_ms: ms("ampeg_attack", 0.0)?,
            hold_ms: ms("ampeg_hold", 0.0)?,
            decay_ms: ms("ampeg_decay", 0.0)?,
            sustain_db: sustain_db_of(number_of(group, "ampeg_sustain", 100.0)?),
            release_ms: ms("ampeg_release", 0.0)?,
            velocity_to_level: (number_of(group, "amp_veltrack", 100.0)? * 10.0).round() / 1000.0,
            bends: [0.0; 3],
        },
        courses: driving.courses,
        filter: driving.filter,
        movements: driving.movements,
        routes: driving.routes,
    })
}

/// A set of regions that start on the same, with a number.
pub(super) fn strand_of(group: &Opcodes, number: u64) -> Result<Strand, FormatError> {
    let name = group.get("group_label").cloned();
    let entered = controllers_of(group, "on_")?.into_iter().next();
    Ok(Strand {
        on: match group.get("trigger").map(String::as_str) {
            _ if entered.is_some() => entered.map_or(On::KEY_DOWN, On::Enters),
            Some("release") => On::KeyUp {
                pedal_holds: true,
                fall_db_per_s: number_of(group, "rt_decay", 0.0)?,
            },
            Some("first") => On::KeyDown(Among::First),
            Some("legato") => On::KeyDown(Among::Legato),
            _ => On::KEY_DOWN,
        },
        voices: Voices {
            bend: bend_of(group)?,
            most: (group.get("polyphony"))
                .map(|_| number_of(group, "polyphony", 1.0).map(|most| most.clamp(1.0, 65_535.0) as u16))
                .transpose()?,
            same_key: if number_of(group, "note_polyphony", 0.0)? == 1.0 {
                SameKey::Cuts
            } else {
                SameKey::Rings
            },
            ..Voices::default()
        },
        ..Strand::new(
            StrandId(number),
            name.unwrap_or_else(|| format!("Strand {}", number + 1)),
            ShapeId(number),
        )
    })
}

/// How far the bend reaches, in cents up and, below 0, down; `None` where it is two keys each way, as it is where nothing is said.
fn bend_of(group: &Opcodes) -> Result<Option<BendKeys>, FormatError> {
    let keys = |name: &str, default: f64| {
        Ok::<u8, FormatError>((number_of(group, name, default)? / 100.0).round().abs().min(48.0) as u8)
    };
    let bend = BendKeys {
        up: keys("bend_up", 100.0 * f64::from(BEND_KEYS.up))?,
        down: keys("bend_down", -100.0 * f64::from(BEND_KEYS.down))?,
    };
    Ok(Some(bend).filter(|bend| *bend != BEND_KEYS))
}
