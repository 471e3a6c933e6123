//! Where everything stands that a player moves: keys, pedals, controllers, switches.

use crate::{ChosenBy, ControlId, Program, Source, Stays, Within};

/// The sustain pedal's controller (MIDI 1.0, as the two below).
pub const SUSTAIN: u8 = 64;
/// The pedal that holds the keys which are down when it goes down.
pub const SOSTENUTO: u8 = 66;
/// The soft pedal.
pub const SOFT: u8 = 67;

/// How fast a key comes up, as it seems, while it is down, and where nobody says (MIDI 1.0).
pub const KEY_UP_SPEED: u8 = 64;

/// Where everything stands while a program is played.
#[derive(Debug, Clone)]
pub struct Standing {
    controllers: [u8; 128],
    /// −1 to 1.
    bend: f64,
    /// Of the channel, 0 to 127.
    pressure: u8,
    /// Of each key.
    key_pressures: [u8; 128],
    /// How fast each key came up last, 0 to 127.
    key_up_speeds: [u8; 128],
    /// The velocity of the strike that holds each key; 0 where it is up.
    keys: [u8; 128],
    /// The key that each switch of the program was set to last.
    switches: Vec<u8>,
    controls: Vec<Moved>,
}

/// A control of the panel.
#[derive(Debug, Clone, Copy)]
struct Moved {
    id: ControlId,
    controller: Option<u8>,
    /// 0 to 1.
    value: f64,
}

fn controls_at_first(program: &Program) -> Vec<Moved> {
    (program.controls.iter())
        .map(|control| Moved {
            id: control.id,
            controller: control.controller,
            value: control.at_first.clamp(0.0, 1.0),
        })
        .collect()
}

impl Default for Standing {
    fn default() -> Self {
        Self {
            controllers: at_first(&Program::default()),
            bend: 0.0,
            pressure: 0,
            key_pressures: [0; 128],
            key_up_speeds: [KEY_UP_SPEED; 128],
            keys: [0; 128],
            switches: Vec::new(),
            controls: Vec::new(),
        }
    }
}

/// The step of a controller that is nearest to a share.
fn step_of(share: f64) -> u8 {
    (share.clamp(0.0, 1.0) * 127.0).round() as u8
}

/// Where controllers stand before anybody moved them: volume and expression open, what has a middle in it (MIDI RP-018), those of controls where these do, the
/// rest at nothing.
fn at_first(program: &Program) -> [u8; 128] {
    let mut all = [0; 128];
    for (controller, value) in [(7, 100), (8, 64), (10, 64), (11, 127)] {
        all[controller] = value;
    }
    for control in &program.controls {
        if let Some(controller) = control.controller {
            all[usize::from(controller & 127)] = step_of(control.at_first);
        }
    }
    for first in &program.controllers_at_first {
        all[usize::from(first.controller & 127)] = step_of(first.value);
    }
    all
}

impl Standing {
    /// Before anybody touched a program.
    pub fn of(program: &Program) -> Self {
        Self {
            controllers: at_first(program),
            bend: 0.0,
            pressure: 0,
            key_pressures: [0; 128],
            key_up_speeds: [KEY_UP_SPEED; 128],
            keys: [0; 128],
            switches: program.switches.iter().map(|switch| switch.at_first).collect(),
            controls: controls_at_first(program),
        }
    }

    /// Goes over to an edited program: what was moved stays where it is; what nobody moved begins where that says.
    pub fn follow(&mut self, before: &Program, now: &Program) {
        let (was, is) = (at_first(before), at_first(now));
        for (controller, value) in self.controllers.iter_mut().enumerate() {
            if *value == was[controller] {
                *value = is[controller];
            }
        }
        let stood = |switch: &crate::Switch| {
            let place = before.switches.iter().position(|other| other.id == switch.id)?;
            let key = *self.switches.get(place)?;
            (switch.low_key..=switch.high_key).contains(&key).then_some(key)
        };
        self.switches = (now.switches.iter())
            .map(|switch| stood(switch).unwrap_or(switch.at_first))
            .collect();
        let was = controls_at_first(before);
        let mut controls = controls_at_first(now);
        for control in &mut controls {
            let stood = self.controls.iter().find(|other| other.id == control.id);
            let first = was.iter().find(|other| other.id == control.id);
            if let (Some(stood), Some(first)) = (stood, first)
                && stood.value != first.value
            {
                control.value = stood.value;
                // It may have another controller now, or one where it had none.
                if let Some(controller) = control.controller {
                    self.controllers[usize::from(controller & 127)] = step_of(stood.value);
                }
            }
        }
        self.controls = controls;
    }

    /// All controls of the panel, and their controllers, stand where they do at first again: another instrument comes, whose controls may have the same names.
    pub fn controls_to_first(&mut self, program: &Program) {
        self.controls = controls_at_first(program);
        for control in &self.controls {
            if let Some(controller) = control.controller {
                self.controllers[usize::from(controller & 127)] = step_of(control.value);
            }
        }
    }

    /// A key goes down, velocity 1 to 127: it sets the switches that it belongs to.
    pub fn press(&mut self, program: &Program, key: u8, velocity: u8) {
        self.keys[usize::from(key & 127)] = velocity.max(1);
        self.press_down(key, 0);
        self.key_up_speeds[usize::from(key & 127)] = KEY_UP_SPEED;
        for (switch, stands) in program.switches.iter().zip(&mut self.switches) {
            if (switch.low_key..=switch.high_key).contains(&key) {
                *stands = key;
            }
        }
    }

    /// A key comes up so fast, 0 to 127: the velocity that it was struck with, 0 where it was not down.
    pub fn lift(&mut self, key: u8, speed: u8) -> u8 {
        self.key_up_speeds[usize::from(key & 127)] = speed.min(127);
        std::mem::take(&mut self.keys[usize::from(key & 127)])
    }

    /// Whether a key is down.
    pub fn is_down(&self, key: u8) -> bool {
        self.keys[usize::from(key & 127)] > 0
    }

    /// Whether a key other than this is down.
    pub fn another_is_down(&self, key: u8) -> bool {
        (0u8..)
            .zip(&self.keys)
            .any(|(other, velocity)| other != key && *velocity > 0)
    }

    /// The keys that are down, each with the velocity of its strike.
    pub fn down(&self) -> impl Iterator<Item = (u8, u8)> + '_ {
        (0u8..).zip(self.keys).filter(|(_, velocity)| *velocity > 0)
    }

    /// The bend is moved, 0 to 16,383, in the middle at 8,192 (MIDI 1.0).
    pub fn bend_to(&mut self, value: u16) {
        let off = f64::from(value.min(16_383)) - 8_192.0;
        self.bend = if off < 0.0 { off / 8_192.0 } else { off / 8_191.0 };
    }

    /// All keys are pressed so far, 0 to 127 (MIDI 1.0, channel pressure).
    pub fn press_all(&mut self, pressure: u8) {
        self.pressure = pressure.min(127);
    }

    /// A key is pressed so far, 0 to 127 (MIDI 1.0, polyphonic key pressure).
    pub fn press_down(&mut self, key: u8, pressure: u8) {
        self.key_pressures[usize::from(key & 127)] = pressure.min(127);
    }

    /// Where a source stands that all voices share, or those of a key: 0 to 1, the bend −1 to 1; `None` for one that each voice has for itself.
    pub fn source(&self, source: Source, key: u8) -> Option<f64> {
        let share = |step: u8| f64::from(step) / 127.0;
        match source {
            Source::Pressure => Some(share(self.pressure)),
            Source::KeyPressure => Some(share(self.key_pressures[usize::from(key & 127)])),
            Source::KeyUpSpeed => Some(share(self.key_up_speeds[usize::from(key & 127)])),
            Source::Bend => Some(self.bend),
            Source::Controller(controller) => Some(share(self.controller(controller))),
            Source::Control(id) => Some(self.control(id).unwrap_or(0.0)),
            _ => None,
        }
    }

    /// Where the bend stands, −1 all the way down to 1 all the way up.
    pub fn bend(&self) -> f64 {
        self.bend
    }

    /// A control of the panel is moved, 0 to 1, and its controller with it, which has that already or is moved by whoever asks for it.
    pub fn set_control(&mut self, id: ControlId, value: f64) {
        if let Some(control) = self.controls.iter_mut().find(|control| control.id == id) {
            control.value = value.clamp(0.0, 1.0);
        }
    }

    /// Where a control of the panel stands, 0 to 1; `None` where there is none.
    pub fn control(&self, id: ControlId) -> Option<f64> {
        let control = self.controls.iter().find(|control| control.id == id);
        control.map(|control| control.value)
    }

    /// A controller is moved, and the controls of the panel that have it; where it stood before.
    pub fn move_to(&mut self, controller: u8, value: u8) -> u8 {
        for control in &mut self.controls {
            if control.controller == Some(controller) {
                control.value = f64::from(value.min(127)) / 127.0;
            }
        }
        std::mem::replace(
            &mut self.controllers[usize::from(controller & 127)],
            value.min(127),
        )
    }

    /// Where each controller stands, 0 to 127.
    pub fn controllers(&self) -> &[u8; 128] {
        &self.controllers
    }

    /// Where a controller stands, 0 to 127.
    pub fn controller(&self, controller: u8) -> u8 {
        self.controllers[usize::from(controller & 127)]
    }

    /// Whether a pedal is down (MIDI 1.0: from 64 on).
    pub fn pedal(&self, controller: u8) -> bool {
        self.controller(controller) >= 64
    }

    /// The step of a source that has one for the whole program, 0 to 127; `None` for one that each voice has for itself.
    fn step(&self, source: Source) -> Option<u8> {
        match source {
            Source::Controller(controller) => Some(self.controller(controller)),
            Source::Pressure => Some(self.pressure),
            Source::Bend => Some((63.5 * (self.bend + 1.0)).round() as u8),
            Source::Control(id) => Some(step_of(self.control(id)?)),
            _ => None,
        }
    }

    /// Whether what fades by a source stands alike for all voices: see [`Standing::gain`].
    pub fn is_shared(source: Source) -> bool {
        matches!(
            source,
            Source::Controller(_) | Source::Control(_) | Source::Pressure | Source::Bend
        )
    }

    /// Whether a source lies where it has to, or something may come in gradually as it is moved: that begins with its key, unheard.
    pub fn is_within(&self, within: &Within) -> bool {
        self.step(within.source)
            .is_none_or(|step| within.span.may_come(step))
    }

    /// Amplitude from the fades of sources, 0 to 1. One that left its span after the strike is not heard.
    pub fn gain<'a>(&self, sources: impl IntoIterator<Item = &'a Within>) -> f64 {
        let of = |within: &Within| {
            self.step(within.source)
                .map_or(1.0, |step| within.span.gain(step))
        };
        sources.into_iter().map(of).product()
    }

    /// Whether a switch stands where it has to.
    pub fn is_chosen(&self, program: &Program, by: &ChosenBy) -> bool {
        let keys = by.low_key..=by.high_key;
        match by.stays {
            Stays::Held => keys.into_iter().any(|key| self.is_down(key)),
            Stays::Latched => (program.switches.iter().zip(&self.switches))
                .find(|(switch, _)| switch.id == by.switch)
                .is_none_or(|(_, stands)| keys.contains(stands)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{ControllerAtFirst, Fade, Span, Switch, SwitchId};

    #[test]
    fn a_switch_stays_at_its_key_or_is_there_while_it_is_down() {
        let program = Program {
            switches: vec![Switch {
                id: SwitchId(4),
                name: "Stops".into(),
                low_key: 24,
                high_key: 26,
                at_first: 24,
            }],
            ..Program::default()
        };
        let mut standing = Standing::of(&program);
        let by = |key, stays| ChosenBy {
            switch: SwitchId(4),
            low_key: key,
            high_key: key,
            stays,
        };
        assert!(standing.is_chosen(&program, &by(24, Stays::Latched)));
        assert!(!standing.is_chosen(&program, &by(25, Stays::Held)));
        standing.press(&program, 25, 90);
        assert!(standing.is_chosen(&program, &by(25, Stays::Held)));
        assert_eq!(standing.lift(25, 64), 90);
        assert!(!standing.is_chosen(&program, &by(25, Stays::Held)));
        assert!(standing.is_chosen(&program, &by(25, Stays::Latched)));
        assert!(!standing.is_chosen(&program, &by(24, Stays::Latched)));
        standing.press(&program, 60, 90);
        assert!(standing.is_chosen(&program, &by(25, Stays::Latched)));
    }

    #[test]
    fn what_was_moved_stays_through_an_edit() {
        let before = Program {
            controllers_at_first: vec![ControllerAtFirst {
                controller: 1,
                value: 0.5,
            }],
            ..Program::default()
        };
        let mut standing = Standing::of(&before);
        assert_eq!((standing.controller(1), standing.controller(11)), (64, 127));
        standing.move_to(2, 33);
        standing.follow(&before, &Program::default());
        assert_eq!((standing.controller(1), standing.controller(2)), (0, 33));
    }

    #[test]
    fn a_control_stands_where_it_was_set_by_hand_or_by_its_controller() {
        let control = |at_first| crate::Control {
            id: ControlId(5),
            name: "Balance".into(),
            at_first,
            controller: Some(20),
        };
        let with = |at_first| Program {
            controls: vec![control(at_first)],
            ..Program::default()
        };
        let mut standing = Standing::of(&with(0.5));
        let source = Source::Control(ControlId(5));
        assert_eq!(standing.source(source, 60), Some(0.5));
        assert_eq!(standing.controller(20), 64);
        // Nobody moved it: it goes along with an edit.
        standing.follow(&with(0.5), &with(0.25));
        assert_eq!(standing.source(source, 60), Some(0.25));
        standing.move_to(20, 127);
        assert_eq!(standing.source(source, 60), Some(1.0));
        standing.set_control(ControlId(5), 0.1);
        standing.follow(&with(0.25), &with(0.75));
        assert_eq!(standing.control(ControlId(5)), Some(0.1));
        // As a format has it, it may move another controller: that stands where the hand left it.
        let mut lowered = with(0.75);
        lowered.controls[0].controller = Some(102);
        standing.follow(&with(0.75), &lowered);
        assert_eq!(
            (standing.control(ControlId(5)), standing.controller(102)),
            (Some(0.1), 13)
        );
        standing.follow(&lowered, &with(0.75));
        // Another instrument comes, and its control of the same name was moved by nobody.
        standing.controls_to_first(&with(0.75));
        standing.follow(&with(0.75), &with(0.5));
        assert_eq!(
            (standing.control(ControlId(5)), standing.controller(20)),
            (Some(0.5), 64)
        );
        standing.follow(&with(0.5), &Program::default());
        assert_eq!(standing.control(ControlId(5)), None);
        assert_eq!(standing.source(source, 60), Some(0.0));
    }

    #[test]
    fn fades_follow_where_a_controller_stands() {
        let mut standing = Standing::default();
        let opens = Within {
            source: Source::Controller(1),
            span: Span {
                fade_in: Some(Fade { from: 0, to: 127 }),
                law: crate::FadeLaw::Linear,
                ..Span::of(0, 127)
            },
        };
        assert!(standing.is_within(&opens));
        assert_eq!(standing.gain(&[opens]), 0.0);
        standing.move_to(1, 127);
        assert_eq!(standing.gain(&[opens]), 1.0);
    }
}
