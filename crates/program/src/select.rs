//! Which regions answer a key, and in which turn.

use crate::{
    Among, On, Program, Region, RegionKey, Source, Standing, Strand, StrandId, Turn, When, Within,
    strike_random,
};
use fnv::FnvHashMap;

/// What a key does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Does {
    /// It goes down.
    GoesDown {
        /// Whether another is down.
        another_held: bool,
    },
    /// It was down while another sounded that comes up: strands of one tone go back to it.
    GoesBack,
    /// It comes up, or a pedal that held it does.
    ComesUp {
        /// Whether the key itself comes up now.
        key: bool,
        /// Whether its sound is let go now: a pedal that is down holds it.
        sound: bool,
        /// How long it was held, in seconds.
        held_s: f64,
    },
}

/// What a source strikes that came to where a strand waits for it, such as a pedal: as hard as can be, so that it is heard as it was recorded.
pub const FULL_STRIKE: u8 = 127;

/// What happens to a key.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KeyEvent {
    /// What.
    pub does: Does,
    /// Which.
    pub key: u8,
    /// The velocity of its strike, 1 to 127.
    pub velocity: u8,
}

impl KeyEvent {
    /// A key that goes down while no other is.
    pub const fn down(key: u8, velocity: u8) -> Self {
        Self {
            does: Does::GoesDown { another_held: false },
            key,
            velocity,
        }
    }

    /// A key that comes up as soon as it was struck, and no pedal holds it.
    pub const fn up(key: u8, velocity: u8) -> Self {
        Self {
            does: Does::ComesUp {
                key: true,
                sound: true,
                held_s: 0.0,
            },
            key,
            velocity,
        }
    }

    /// Whether it is one of a key that comes up.
    pub fn is_up(&self) -> bool {
        matches!(self.does, Does::ComesUp { .. })
    }
}

/// Amplitude with which an event starts a strand; 0 where it does not.
fn starts(strand: &Strand, event: KeyEvent) -> f64 {
    if strand.muted {
        return 0.0;
    }
    match (&strand.on, event.does) {
        (On::KeyDown(among), Does::GoesDown { another_held }) => {
            let is = match among {
                Among::Any => true,
                Among::First => !another_held,
                Among::Legato => another_held,
            };
            f64::from(u8::from(is))
        }
        (On::KeyDown(Among::Any | Among::Legato), Does::GoesBack) => {
            f64::from(u8::from(strand.voices.glide.is_some()))
        }
        (
            On::KeyUp {
                pedal_holds,
                fall_db_per_s,
            },
            Does::ComesUp { key, sound, held_s },
        ) => {
            let comes = if *pedal_holds { sound } else { key };
            f64::from(u8::from(comes)) * libm::pow(10.0, -fall_db_per_s.max(0.0) * held_s / 20.0)
        }
        _ => 0.0,
    }
}

/// Amplitude with which a region answers an event, whosever turn it is and wherever controllers and switches stand; 0 where it does not.
pub fn answers(program: &Program, region: &Region, event: KeyEvent) -> f64 {
    let Some(strand) = program.strand_of(region) else {
        return 0.0;
    };
    let at = |when: &When| when.gain(event.key, event.velocity);
    starts(strand, event) * at(&region.when) * at(&strand.when)
}

/// Indices of the regions that answer a key that goes down (or comes up), whosever turn it is.
pub fn regions_for_key(
    program: &Program,
    up: bool,
    key: u8,
    velocity: u8,
) -> impl Iterator<Item = usize> + '_ {
    let event = if up {
        KeyEvent::up(key, velocity)
    } else {
        KeyEvent::down(key, velocity)
    };
    (program.regions.iter().enumerate())
        .filter(move |(_, region)| answers(program, region, event) > 0.0)
        .map(|(index, _)| index)
}

/// Whose turn it is: what is counted while a program plays. Compiled from it, so that a strike looks at those regions only that its key has.
#[derive(Debug, Clone, Default)]
pub struct Turns {
    /// Regions by key, and each one's strand, as indices.
    by_key: Vec<Vec<(u32, u32)>>,
    of_strand: FnvHashMap<StrandId, u32>,
    strikes: u64,
    /// How often each was asked for, of those that take turns in order and were.
    counted: FnvHashMap<RegionKey, u32>,
    /// Regions that take turns in order.
    in_order: usize,
    /// Of each strand.
    strands: Vec<StrandTurn>,
    groups: FnvHashMap<u64, Group>,
}

/// How often a strand was asked for, and whether the last strike was its turn.
#[derive(Debug, Clone, Copy, Default)]
struct StrandTurn {
    counted: u32,
    asked_at: u64,
    has_turn: bool,
}

/// Regions that take turns at random, never the same twice.
#[derive(Debug, Clone, Copy, Default)]
struct Group {
    last: Option<u16>,
    /// The strike that its turn was drawn for.
    drawn_for: u64,
}

impl Turns {
    /// Of a program that has not been played.
    pub fn of(program: &Program) -> Self {
        let mut turns = Self::before_regions(program);
        for (index, region) in program.regions.iter().enumerate() {
            turns.add(index, region);
        }
        turns
    }

    /// Of its strands; its regions are still to come, by [`Turns::add`], one after another.
    pub fn before_regions(program: &Program) -> Self {
        let mut turns = Self {
            by_key: vec![Vec::new(); 128],
            of_strand: (program.strands.iter().map(|strand| strand.id))
                .zip(0..)
                .collect(),
            strands: vec![StrandTurn::default(); program.strands.len()],
            ..Self::default()
        };
        (program.strands.iter()).for_each(|strand| turns.expect(strand.when.turn));
        turns
    }

    /// The next region.
    pub fn add(&mut self, index: usize, region: &Region) {
        let Some(&strand) = self.of_strand.get(&region.key.strand) else {
            return;
        };
        let keys = region.when.keys;
        for key in keys.low..=keys.high.min(127) {
            self.by_key[usize::from(key)].push((index as u32, strand));
        }
        self.expect(region.when.turn);
    }

    /// A region lies on other keys from now on.
    pub fn move_to_keys(&mut self, index: usize, region: &Region, (low, high): (u8, u8)) {
        let Some(&strand) = self.of_strand.get(&region.key.strand) else {
            return;
        };
        let entry = (index as u32, strand);
        for (key, all) in (0u8..).zip(&mut self.by_key) {
            // In the program's order.
            match (all.binary_search(&entry), (low..=high).contains(&key)) {
                (Err(at), true) => all.insert(at, entry),
                (Ok(at), false) => {
                    all.remove(at);
                }
                _ => {}
            }
        }
    }

    /// Room for what will be counted, so that no strike needs any.
    fn expect(&mut self, turn: Turn) {
        match turn {
            Turn::InOrder { .. } => {
                self.in_order += 1;
                // As many may be left of regions that are gone.
                self.counted.reserve(2 * self.in_order);
            }
            Turn::Shuffled { group, .. } => {
                self.groups.entry(group).or_default();
            }
            Turn::Always | Turn::Random { .. } => {}
        }
    }

    /// Goes over to these, of an edited program: regions that stay count on. Gives back what it was.
    pub fn go_over_to(&mut self, next: Self, before: &Program, now: &Program) -> Self {
        let was = std::mem::replace(self, next);
        self.strikes = was.strikes;
        // Only as many as there is room for: more come from regions that are gone.
        for (key, count) in was.counted.iter().take(self.in_order) {
            self.counted.insert(*key, *count);
        }
        for (turn, strand) in self.strands.iter_mut().zip(&now.strands) {
            let place = before.strands.iter().position(|other| other.id == strand.id);
            if let Some(same) = place.and_then(|place| was.strands.get(place)) {
                *turn = *same;
            }
        }
        for (number, same) in was.groups.iter().filter(|(_, group)| group.last.is_some()) {
            if let Some(group) = self.groups.get_mut(number) {
                *group = *same;
            }
        }
        was
    }

    /// What happens to a key: each region that sounds now is told, by its index and its amplitude. Allocates nothing.
    pub fn strike(
        &mut self,
        program: &Program,
        standing: &Standing,
        event: KeyEvent,
        mut sounds: impl FnMut(usize, f64),
    ) {
        self.strikes += 1;
        let Some(candidates) = self.by_key.get(usize::from(event.key)) else {
            return;
        };
        for n in 0..candidates.len() {
            let (index, of_strand) = self.by_key[usize::from(event.key)][n];
            let (index, of_strand) = (index as usize, of_strand as usize);
            let (Some(region), Some(strand)) = (program.regions.get(index), program.strands.get(of_strand))
            else {
                continue;
            };
            let at = |when: &When| when.gain(event.key, event.velocity);
            let gain = starts(strand, event) * at(&region.when) * at(&strand.when);
            let asked = gain > 0.0
                && asks_for(program, standing, &strand.when)
                && asks_for(program, standing, &region.when);
            if asked && self.strand_has_turn(program, of_strand) && self.region_has_turn(program, index) {
                sounds(index, gain);
            }
        }
    }

    /// A source went from one step to another: regions of strands that sound when it comes to where it is are told, each at its root key and with
    /// [`FULL_STRIKE`], where these lie within what strand and region are limited to.
    pub fn enter(
        &mut self,
        program: &Program,
        standing: &Standing,
        (source, before, now): (Source, u8, u8),
        mut sounds: impl FnMut(usize, f64),
    ) {
        let comes_in = |within: &Within| {
            within.source == source && within.span.contains(now) && !within.span.contains(before)
        };
        self.strikes += 1;
        for (place, strand) in program.strands.iter().enumerate() {
            let starts = !strand.muted && matches!(&strand.on, On::Enters(within) if comes_in(within));
            if !starts || !asks_for(program, standing, &strand.when) {
                continue;
            }
            for (index, region) in program.regions.iter().enumerate() {
                let at = |when: &When| when.gain(region.root_key, FULL_STRIKE);
                let gain = at(&region.when) * at(&strand.when);
                let asked =
                    region.key.strand == strand.id && gain > 0.0 && asks_for(program, standing, &region.when);
                if asked && self.strand_has_turn(program, place) && self.region_has_turn(program, index) {
                    sounds(index, gain);
                }
            }
        }
    }

    fn region_has_turn(&mut self, program: &Program, index: usize) -> bool {
        let region = &program.regions[index];
        let turn = region.when.turn;
        let random = strike_random(program.seed, self.strikes);
        let (groups, strike) = (&mut self.groups, (self.strikes, random));
        match turn {
            Turn::InOrder { .. } => {
                has_turn(turn, self.counted.entry(region.key).or_default(), groups, strike)
            }
            _ => has_turn(turn, &mut 0, groups, strike),
        }
    }

    /// Counted once a strike, however many regions it has.
    fn strand_has_turn(&mut self, program: &Program, place: usize) -> bool {
        let turn = program.strands[place].when.turn;
        if turn == Turn::Always {
            return true;
        }
        let Some(strand) = self.strands.get_mut(place) else {
            return false;
        };
        if strand.asked_at != self.strikes {
            strand.asked_at = self.strikes;
            // Not the regions' number: else the first of two strands would have the first of its round robins only.
            let random = strike_random(!program.seed, self.strikes);
            let (groups, strike) = (&mut self.groups, self.strikes);
            strand.has_turn = has_turn(turn, &mut strand.counted, groups, (strike, random));
        }
        strand.has_turn
    }
}

/// Whether controllers and switches stand where it asks for.
fn asks_for(program: &Program, standing: &Standing, when: &When) -> bool {
    let chosen = (when.chosen_by.as_ref()).is_none_or(|by| standing.is_chosen(program, by));
    chosen && when.sources.iter().all(|within| standing.is_within(within))
}

/// Whose turn it is, at a strike and its random number.
fn has_turn(
    turn: Turn,
    counted: &mut u32,
    groups: &mut FnvHashMap<u64, Group>,
    (strike, random): (u64, f64),
) -> bool {
    match turn {
        Turn::Always => true,
        Turn::InOrder { place, of } => {
            let count = *counted;
            *counted = count.wrapping_add(1);
            count % u32::from(of.max(1)) == u32::from(place)
        }
        Turn::Random { from, to } => (from..to).contains(&random),
        Turn::Shuffled { group, place, of } => {
            let group = groups.get_mut(&group);
            group.is_some_and(|group| draw(group, strike, random, of) == place)
        }
    }
}

/// The turn of a group at a strike, drawn once: any but the last.
fn draw(group: &mut Group, strike: u64, random: f64, of: u16) -> u16 {
    if group.drawn_for != strike || group.last.is_none() {
        group.drawn_for = strike;
        group.last = Some(match group.last {
            Some(last) if of > 1 => {
                let others = (random * f64::from(of - 1)) as u16;
                (last + 1 + others.min(of - 2)) % of
            }
            _ => ((random * f64::from(of)) as u16).min(of.saturating_sub(1)),
        });
    }
    group.last.unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Fade, RegionOf, Shape, ShapeId, Span, Strand};

    const DOWN: KeyEvent = KeyEvent::down(60, 64);
    const UP: KeyEvent = KeyEvent::up(60, 64);

    fn program(turns: &[Turn]) -> Program {
        let mut program = Program {
            shapes: vec![Shape::default()],
            strands: vec![Strand::new(StrandId(0), "Keys", ShapeId(0))],
            ..Program::default()
        };
        for (n, turn) in turns.iter().enumerate() {
            let mut region = Region::whole(0, 60, 100);
            region.key.of = RegionOf::Own(n as u64);
            region.when.turn = *turn;
            program.regions.push(region);
        }
        program
    }

    fn heard(turns: &mut Turns, program: &Program, event: KeyEvent) -> Vec<usize> {
        let mut all = Vec::new();
        turns.strike(program, &Standing::of(program), event, |index, _| all.push(index));
        all
    }

    fn in_order(of: u16) -> Vec<Turn> {
        (0..of).map(|place| Turn::InOrder { place, of }).collect()
    }

    #[test]
    fn only_strands_of_one_tone_go_back_to_a_key() {
        let mut strand = Strand::new(StrandId(0), "Lead", crate::ShapeId(0));
        let back = KeyEvent {
            does: Does::GoesBack,
            ..KeyEvent::down(60, 90)
        };
        assert_eq!(starts(&strand, back), 0.0);
        strand.voices.glide = Some(crate::Glide {
            ms: 50.0,
            per_octave: false,
            legato_only: true,
        });
        assert_eq!(starts(&strand, back), 1.0);
        strand.on = On::KeyDown(Among::First);
        assert_eq!(starts(&strand, back), 0.0);
    }

    #[test]
    fn those_in_order_follow_one_another() {
        let program = program(&in_order(3));
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = (0..7).flat_map(|_| heard(&mut turns, &program, DOWN)).collect();
        assert_eq!(all, [0, 1, 2, 0, 1, 2, 0]);
    }

    #[test]
    fn a_region_that_is_moved_answers_its_new_keys_and_not_its_old_ones() {
        let mut program = program(&[Turn::Always, Turn::Always]);
        (program.regions.iter_mut()).for_each(|region| region.when.keys = Span::of(60, 61));
        let mut turns = Turns::of(&program);
        turns.move_to_keys(0, &program.regions[0], (61, 70));
        program.regions[0].when.keys = Span::of(61, 70);
        let at = |key| KeyEvent { key, ..DOWN };
        let all: Vec<Vec<usize>> = [60, 61, 70, 71]
            .map(|key| heard(&mut turns, &program, at(key)))
            .to_vec();
        assert_eq!(all, [vec![1], vec![0, 1], vec![0], vec![]]);
    }

    /// Soft and loud in turn, two round robins each: counted together, each would repeat one sample for ever.
    #[test]
    fn each_layer_counts_its_own_strikes() {
        let mut program = program(&[in_order(2), in_order(2)].concat());
        for (n, region) in program.regions.iter_mut().enumerate() {
            region.when.strikes = if n < 2 { Span::of(1, 63) } else { Span::of(64, 127) };
        }
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = [20, 100, 20, 100, 20]
            .into_iter()
            .flat_map(|velocity| heard(&mut turns, &program, KeyEvent { velocity, ..DOWN }))
            .collect();
        assert_eq!(all, [0, 2, 1, 3, 0]);
    }

    #[test]
    fn shuffled_ones_never_come_twice_running_and_all_come() {
        let of = 4;
        let shuffled: Vec<Turn> = (0..of)
            .map(|place| Turn::Shuffled { group: 9, place, of })
            .collect();
        let program = program(&shuffled);
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = (0..400).flat_map(|_| heard(&mut turns, &program, DOWN)).collect();
        assert_eq!(all.len(), 400);
        assert!(all.windows(2).all(|pair| pair[0] != pair[1]));
        for place in 0..4 {
            let count = all.iter().filter(|heard| **heard == place).count();
            assert!((70..130).contains(&count), "{place}: {count}");
        }
        // Again from the start it is the same: a render gives the same bytes.
        let mut again = Turns::of(&program);
        let second: Vec<usize> = (0..400).flat_map(|_| heard(&mut again, &program, DOWN)).collect();
        assert_eq!(all, second);
    }

    #[test]
    fn one_at_random_answers_each_strike() {
        let random: Vec<Turn> = (0..4)
            .map(|n| Turn::Random {
                from: f64::from(n) / 4.0,
                to: f64::from(n + 1) / 4.0,
            })
            .collect();
        let program = program(&random);
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = (0..400).flat_map(|_| heard(&mut turns, &program, DOWN)).collect();
        assert_eq!(all.len(), 400);
        assert!((0..4).all(|place| all.iter().filter(|heard| **heard == place).count() > 60));
        assert!(all.windows(2).any(|pair| pair[0] == pair[1]));
    }

    #[test]
    fn a_region_that_stays_counts_on_through_an_edit() {
        let before = program(&in_order(3));
        let mut turns = Turns::of(&before);
        heard(&mut turns, &before, DOWN);
        let mut now = before.clone();
        now.regions.insert(0, {
            let mut new = Region::whole(0, 60, 100);
            new.key.of = RegionOf::Own(77);
            new.when.keys = Span::of(0, 10);
            new
        });
        turns.go_over_to(Turns::of(&now), &before, &now);
        assert_eq!(heard(&mut turns, &now, DOWN), [2]);
    }

    #[test]
    fn strand_and_region_have_to_agree() {
        let mut program = program(&[Turn::Always]);
        program.strands[0].when.keys = Span::of(0, 59);
        assert_eq!(heard(&mut Turns::of(&program), &program, DOWN), [0usize; 0]);
        program.strands[0].when.keys = Span::ALL_KEYS;
        program.strands[0].on = On::KeyDown(Among::Legato);
        assert_eq!(heard(&mut Turns::of(&program), &program, DOWN), [0usize; 0]);
        let legato = KeyEvent {
            does: Does::GoesDown { another_held: true },
            ..DOWN
        };
        assert_eq!(heard(&mut Turns::of(&program), &program, legato), [0]);
        program.strands[0].on = On::KEY_UP;
        assert_eq!(heard(&mut Turns::of(&program), &program, DOWN), [0usize; 0]);
        assert_eq!(heard(&mut Turns::of(&program), &program, UP), [0]);
        program.regions[0].when.strikes = Span {
            fade_in: Some(Fade { from: 64, to: 80 }),
            ..Span::ALL_STRIKES
        };
        // At the foot of its fade nothing is heard, and no voice is spent.
        assert_eq!(heard(&mut Turns::of(&program), &program, UP), [0usize; 0]);
    }

    /// Two strands of one region each.
    fn two() -> Program {
        let mut program = program(&[Turn::Always, Turn::Always]);
        program
            .strands
            .push(Strand::new(StrandId(1), "Other", ShapeId(0)));
        program.regions[1].key.strand = StrandId(1);
        program
    }

    fn heard_with(
        turns: &mut Turns,
        program: &Program,
        standing: &Standing,
        event: KeyEvent,
    ) -> Vec<(usize, f64)> {
        let mut all = Vec::new();
        turns.strike(program, standing, event, |index, gain| all.push((index, gain)));
        all
    }

    #[test]
    fn a_controller_chooses_between_strands() {
        let mut program = two();
        for (n, (low, high)) in [(0, 63), (64, 127)].into_iter().enumerate() {
            program.strands[n].when.sources.push(Within {
                source: Source::Controller(1),
                span: Span::of(low, high),
            });
        }
        let (mut turns, mut standing) = (Turns::of(&program), Standing::of(&program));
        assert_eq!(heard_with(&mut turns, &program, &standing, DOWN), [(0, 1.0)]);
        standing.move_to(1, 64);
        assert_eq!(heard_with(&mut turns, &program, &standing, DOWN), [(1, 1.0)]);
    }

    #[test]
    fn strands_take_turns_and_each_counts_its_own_round_robins() {
        let mut program = two();
        let mut second = program.regions[0].clone();
        second.key.of = RegionOf::Own(9);
        for (region, place) in [(&mut program.regions[0], 0), (&mut second, 1)] {
            region.when.turn = Turn::InOrder { place, of: 2 };
        }
        program.regions.push(second);
        for (place, strand) in (0u16..).zip(&mut program.strands) {
            strand.when.turn = Turn::InOrder { place, of: 2 };
        }
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = (0..5).flat_map(|_| heard(&mut turns, &program, DOWN)).collect();
        assert_eq!(all, [0, 1, 2, 1, 0]);
    }

    #[test]
    fn a_sound_of_a_key_that_comes_up_is_softer_the_longer_it_was_held_and_waits_for_the_pedal() {
        let mut program = program(&[Turn::Always]);
        program.strands[0].on = On::KeyUp {
            pedal_holds: true,
            fall_db_per_s: 6.0,
        };
        let comes_up = |key, sound| KeyEvent {
            does: Does::ComesUp {
                key,
                sound,
                held_s: 2.0,
            },
            ..UP
        };
        let (mut turns, standing) = (Turns::of(&program), Standing::default());
        assert!(heard_with(&mut turns, &program, &standing, comes_up(true, false)).is_empty());
        let of_pedal = heard_with(&mut turns, &program, &standing, comes_up(false, true));
        assert!((20.0 * of_pedal[0].1.log10() + 12.0).abs() < 1e-9);
    }

    #[test]
    fn a_pedal_that_comes_where_a_strand_waits_for_it_sounds_it() {
        let mut program = two();
        program.strands[1].on = On::Enters(Within {
            source: Source::Controller(64),
            span: Span::of(64, 127),
        });
        let (mut turns, standing) = (Turns::of(&program), Standing::default());
        let mut entered = |before, now| {
            let mut all = Vec::new();
            let went = (Source::Controller(64), before, now);
            turns.enter(&program, &standing, went, |index, _| all.push(index));
            all
        };
        assert_eq!(entered(0, 100), [1]);
        assert!(entered(100, 90).is_empty());
        assert!(entered(90, 0).is_empty());
        // Of a strand that is limited, only what lies within.
        program.strands[1].when.keys = Span::of(0, 40);
        let mut none = true;
        Turns::of(&program).enter(&program, &standing, (Source::Controller(64), 0, 100), |_, _| {
            none = false
        });
        assert!(none);
    }

    #[test]
    fn a_muted_strand_is_silent() {
        let mut program = two();
        program.strands[0].muted = true;
        assert_eq!(heard(&mut Turns::of(&program), &program, DOWN), [1]);
        assert_eq!(regions_for_key(&program, false, 60, 64).collect::<Vec<_>>(), [1]);
    }
}
