//! Which regions answer a key, and in which turn.

use crate::{Among, On, Program, Region, RegionKey, StrandId, Turn, When, strike_random};
use std::collections::HashMap;

/// What a key does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyEvent {
    /// Whether it comes up.
    pub up: bool,
    /// Which.
    pub key: u8,
    /// The velocity of its strike, 1 to 127.
    pub velocity: u8,
    /// Whether another is down.
    pub another_held: bool,
}

/// Whether an event is the one that starts a strand.
fn starts(on: &On, event: KeyEvent) -> bool {
    match on {
        On::KeyDown(among) => {
            !event.up
                && match among {
                    Among::Any => true,
                    Among::First => !event.another_held,
                    Among::Legato => event.another_held,
                }
        }
        On::KeyUp { .. } => event.up,
        On::Enters(_) => false,
    }
}

/// Amplitude with which a region answers an event, whosever turn it is; 0 where it does not.
pub fn answers(program: &Program, region: &Region, event: KeyEvent) -> f64 {
    let Some(strand) = program
        .strand_of(region)
        .filter(|strand| starts(&strand.on, event))
    else {
        return 0.0;
    };
    region.when.gain(event.key, event.velocity) * strand.when.gain(event.key, event.velocity)
}

/// Indices of the regions that answer a key that goes down (or comes up), whosever turn it is.
pub fn regions_for_key(
    program: &Program,
    up: bool,
    key: u8,
    velocity: u8,
) -> impl Iterator<Item = usize> + '_ {
    let event = KeyEvent {
        up,
        key,
        velocity,
        another_held: false,
    };
    (program.regions.iter().enumerate())
        .filter(move |(_, region)| answers(program, region, event) > 0.0)
        .map(|(index, _)| index)
}

/// Whose turn it is: what is counted while a program plays. Compiled from it, so that a strike looks at those regions only that its key has.
#[derive(Debug, Clone, Default)]
pub struct Turns {
    /// Regions by key, and each one's strand, as indices.
    by_key: Vec<Vec<(usize, usize)>>,
    strikes: u64,
    counted: Vec<u32>,
    groups: Vec<Group>,
}

/// Regions that take turns at random, never the same twice.
#[derive(Debug, Clone, Copy)]
struct Group {
    number: u64,
    last: Option<u16>,
    /// The strike that its turn was drawn for.
    drawn_for: u64,
}

impl Turns {
    /// Of a program that has not been played.
    pub fn of(program: &Program) -> Self {
        let strands: HashMap<StrandId, usize> = (program.strands.iter().enumerate())
            .map(|(index, strand)| (strand.id, index))
            .collect();
        let mut by_key = vec![Vec::new(); 128];
        let mut groups: Vec<Group> = Vec::new();
        for (index, region) in program.regions.iter().enumerate() {
            let Some(&strand) = strands.get(&region.key.strand) else {
                continue;
            };
            let keys = region.when.keys;
            for key in keys.low..=keys.high.min(127) {
                by_key[usize::from(key)].push((index, strand));
            }
            if let Turn::Shuffled { group: number, .. } = region.when.turn
                && !groups.iter().any(|group| group.number == number)
            {
                groups.push(Group {
                    number,
                    last: None,
                    drawn_for: 0,
                });
            }
        }
        groups.sort_by_key(|group| group.number);
        Self {
            by_key,
            strikes: 0,
            counted: vec![0; program.regions.len()],
            groups,
        }
    }

    /// Goes over to an edited program: regions that stay count on.
    pub fn follow(&mut self, before: &Program, now: &Program) {
        let counts: HashMap<RegionKey, u32> = (before.regions.iter().map(|region| region.key))
            .zip(self.counted.iter().copied())
            .collect();
        let next = Self::of(now);
        let was = std::mem::replace(self, next);
        self.strikes = was.strikes;
        for (count, region) in self.counted.iter_mut().zip(&now.regions) {
            *count = counts.get(&region.key).copied().unwrap_or(0);
        }
        for group in &mut self.groups {
            if let Some(same) = was.groups.iter().find(|same| same.number == group.number) {
                *group = *same;
            }
        }
    }

    /// An event: each region that sounds now is told, by its index and its amplitude. Allocates nothing.
    pub fn strike(&mut self, program: &Program, event: KeyEvent, mut sounds: impl FnMut(usize, f64)) {
        self.strikes += 1;
        let random = strike_random(program.seed, self.strikes);
        let Some(candidates) = self.by_key.get(usize::from(event.key)) else {
            return;
        };
        for &(index, strand) in candidates {
            let (Some(region), Some(strand)) = (program.regions.get(index), program.strands.get(strand))
            else {
                continue;
            };
            if !starts(&strand.on, event) {
                continue;
            }
            let of = |when: &When| when.gain(event.key, event.velocity);
            let gain = of(&region.when) * of(&strand.when);
            if gain <= 0.0 {
                continue;
            }
            let has_turn = match region.when.turn {
                Turn::Always => true,
                Turn::InOrder { place, of } => {
                    let count = self.counted[index];
                    self.counted[index] = count.wrapping_add(1);
                    count % u32::from(of.max(1)) == u32::from(place)
                }
                Turn::Random { from, to } => (from..to).contains(&random),
                Turn::Shuffled { group, place, of } => {
                    let found = self.groups.binary_search_by_key(&group, |group| group.number);
                    found.is_ok_and(|at| draw(&mut self.groups[at], self.strikes, random, of) == place)
                }
            };
            if has_turn {
                sounds(index, gain);
            }
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

    const DOWN: KeyEvent = KeyEvent {
        up: false,
        key: 60,
        velocity: 64,
        another_held: false,
    };

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
        turns.strike(program, event, |index, _| all.push(index));
        all
    }

    fn in_order(of: u16) -> Vec<Turn> {
        (0..of).map(|place| Turn::InOrder { place, of }).collect()
    }

    #[test]
    fn those_in_order_follow_one_another() {
        let program = program(&in_order(3));
        let mut turns = Turns::of(&program);
        let all: Vec<usize> = (0..7).flat_map(|_| heard(&mut turns, &program, DOWN)).collect();
        assert_eq!(all, [0, 1, 2, 0, 1, 2, 0]);
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
        turns.follow(&before, &now);
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
            another_held: true,
            ..DOWN
        };
        assert_eq!(heard(&mut Turns::of(&program), &program, legato), [0]);
        program.strands[0].on = On::KEY_UP;
        assert_eq!(heard(&mut Turns::of(&program), &program, DOWN), [0usize; 0]);
        assert_eq!(
            heard(&mut Turns::of(&program), &program, KeyEvent { up: true, ..DOWN }),
            [0]
        );
        program.regions[0].when.strikes = Span {
            fade_in: Some(Fade { from: 64, to: 80 }),
            ..Span::ALL_STRIKES
        };
        // At the foot of its fade nothing is heard, and no voice is spent.
        assert_eq!(
            heard(&mut Turns::of(&program), &program, KeyEvent { up: true, ..DOWN }),
            [0usize; 0]
        );
    }
}
