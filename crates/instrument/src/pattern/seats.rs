//! What of an instrument takes the place of a pattern's strands, regions and shapes.

use super::shares::{Share, route_of};
use super::{Pattern, StrandOfPattern, Under};
use crate::edition::SaidOf;
use crate::mapping::strands_of_pass;
use crate::strands::copy_of;
use crate::{Cell, Fact, LayerId, Pass, Plan, Target};
use program::{BusId, On, ParamId, ROUTES_OF_WHOLE, RegionOf, ShapeId, StrandId};
use serde_json::{Value, json};
use std::collections::{BTreeSet, HashMap};
use std::mem::discriminant;

/// Why something has no seat.
pub(super) enum Nowhere {
    Strand(StrandId),
    Region,
}

/// What takes the place of what.
pub(super) struct Seats {
    strands: HashMap<StrandId, StrandId>,
    regions: HashMap<(StrandId, u64), u64>,
    shapes: HashMap<ShapeId, ShapeId>,
}

impl Seats {
    pub(super) fn of(pattern: &Pattern, under: Under) -> Self {
        let mut strands = strand_seats(pattern, under);
        // A copy comes along under its own name, where that of which it is one has a seat.
        let copies = pattern.held.strands.iter();
        let copies: Vec<StrandId> = copies
            .filter(|strand| strand.copy_of.is_some())
            .filter(|copy| root_of(pattern, copy.id).is_some_and(|root| strands.contains_key(&root)))
            .map(|copy| copy.id)
            .collect();
        strands.extend(copies.into_iter().map(|id| (id, id)));
        let mut regions = HashMap::new();
        for &strand in strands.keys() {
            let Some(root) = root_of(pattern, strand) else {
                continue;
            };
            let from = pass_of(&pattern.plan, root);
            let to = strands.get(&root).and_then(|root| pass_of(under.plan, *root));
            if let (Some(from), Some(to)) = (from, to) {
                let numbers = cell_seats(&pattern.plan, from, under.plan, to);
                regions.extend(numbers.map(|(from, to)| ((strand, from), to)));
            }
        }
        let mut shapes: HashMap<ShapeId, ShapeId> = strands
            .iter()
            .map(|(from, to)| (ShapeId::of_strand(*from), ShapeId::of_strand(*to)))
            .collect();
        shapes.insert(ROUTES_OF_WHOLE, ROUTES_OF_WHOLE);
        for ((strand, from), to) in &regions {
            let shape = |strand: StrandId, number: u64| ShapeId::of_part(strand, number);
            shapes.insert(shape(*strand, *from), shape(strands[strand], *to));
        }
        // A part of a region has a number of its own, which it keeps.
        for of in &pattern.held.said {
            if let (Target::Region(strand, number), Fact::RegionCopyOf) = (of.target, of.fact)
                && let Some(to) = strands.get(&strand)
            {
                regions.insert((strand, number), number);
                shapes.insert(ShapeId::of_part(strand, number), ShapeId::of_part(*to, number));
            }
        }
        Self {
            strands,
            regions,
            shapes,
        }
    }

    pub(super) fn is_taken(&self, strand: StrandId) -> bool {
        self.strands.values().any(|taken| *taken == strand)
    }

    /// Whether what was said of a target gives way to a part of the pattern.
    pub(super) fn takes_place_of(&self, share: Share, target: Target) -> bool {
        match (share, target) {
            (Share::Panel, _) => true,
            (_, Target::Region(..)) => false,
            (Share::Map, _) => true,
            (Share::Strands, Target::Strand(strand)) => self.is_taken(strand),
            (_, Target::Route(ROUTES_OF_WHOLE, _)) => true,
            (Share::Strands, _) => {
                let (_, shape, _) = target.kept();
                self.is_taken(StrandId(shape))
            }
            (Share::Effects, Target::Send(strand, _)) => self.is_taken(strand),
            (Share::Effects, Target::Bus(bus) | Target::Effect(bus, _)) => {
                bus.strand().is_none_or(|strand| self.is_taken(strand))
            }
            (Share::Effects, _) => false,
        }
    }

    fn strand(&self, from: StrandId) -> Result<StrandId, Nowhere> {
        self.strands.get(&from).copied().ok_or(Nowhere::Strand(from))
    }

    fn shape(&self, from: ShapeId) -> Result<ShapeId, Nowhere> {
        let seat = self.shapes.get(&from).copied();
        // Of a shape that is none of a strand nothing is known but that it has no seat.
        seat.ok_or(Nowhere::Strand(StrandId(from.0)))
    }

    fn bus(&self, from: BusId) -> Result<BusId, Nowhere> {
        from.strand()
            .map_or(Ok(from), |strand| self.strand(strand).map(BusId::of_strand))
    }

    fn region(&self, strand: StrandId, number: u64) -> Result<u64, Nowhere> {
        self.strand(strand)?;
        let seat = self.regions.get(&(strand, number));
        seat.copied().ok_or(Nowhere::Region)
    }

    /// Of what, and what, it is said under the other recordings.
    pub(super) fn seat(&self, of: &SaidOf) -> Result<(Target, Value), Nowhere> {
        let target = match of.target {
            Target::Strand(strand) => Target::Strand(self.strand(strand)?),
            Target::Region(strand, number) => {
                Target::Region(self.strand(strand)?, self.region(strand, number)?)
            }
            Target::Route(shape, number) => Target::Route(self.shape(shape)?, number),
            Target::Movement(shape, number) => Target::Movement(self.shape(shape)?, number),
            Target::Course(shape, number) => Target::Course(self.shape(shape)?, number),
            Target::Bus(bus) => Target::Bus(self.bus(bus)?),
            Target::Send(strand, bus) => Target::Send(self.strand(strand)?, self.bus(bus)?),
            Target::Effect(bus, number) => Target::Effect(self.bus(bus)?, number),
            other => other,
        };
        let value = match (of.fact, of.value.as_u64()) {
            (Fact::StrandCutBy | Fact::StrandCopyOf | Fact::PartStrand, Some(strand)) => {
                json!(self.strand(StrandId(strand))?)
            }
            (Fact::RegionCopyOf, Some(number)) => match of.target {
                Target::Region(strand, _) => json!(self.region(strand, number)?),
                _ => of.value.clone(),
            },
            (Fact::Route, _) => {
                let mut value = of.value.clone();
                if let Some(ParamId::StrandLevel(strand)) = route_of(&value).map(|route| route.to) {
                    value["to"] = json!(ParamId::StrandLevel(self.strand(strand)?));
                }
                value
            }
            _ => of.value.clone(),
        };
        Ok((target, value))
    }
}

/// The strand that is no copy, which a strand is one of at last.
fn root_of(pattern: &Pattern, id: StrandId) -> Option<StrandId> {
    let mut strand = pattern.strand(id)?;
    for _ in &pattern.held.strands {
        match strand.copy_of {
            Some(of) => strand = pattern.strand(of)?,
            None => return Some(strand.id),
        }
    }
    None
}

/// Those of a name that start alike go together; then those that start alike, in their order.
fn strand_seats(pattern: &Pattern, under: Under) -> HashMap<StrandId, StrandId> {
    let mut free: Vec<(StrandId, &str, On)> = (under.program.strands.iter())
        .filter(|strand| copy_of(under.said, strand.id).is_none())
        .map(|strand| (strand.id, strand.name.as_str(), strand.on))
        .collect();
    let strands: Vec<&StrandOfPattern> = (pattern.held.strands.iter())
        .filter(|strand| strand.copy_of.is_none())
        .collect();
    let mut seats = HashMap::new();
    for by_name in [true, false] {
        for strand in &strands {
            if seats.contains_key(&strand.id) {
                continue;
            }
            let fits = |(_, name, on): &(StrandId, &str, On)| {
                let named = name.to_lowercase() == strand.name.to_lowercase();
                discriminant(on) == discriminant(&strand.on) && (named || !by_name)
            };
            if let Some(n) = free.iter().position(fits) {
                seats.insert(strand.id, free.remove(n).0);
            }
        }
    }
    seats
}

/// The pass that a strand is made of by rule.
fn pass_of(plan: &Plan, strand: StrandId) -> Option<&Pass> {
    let mut passes = plan.passes.iter();
    passes.find(|pass| strands_of_pass(plan, pass.id).any(|(id, _)| id == strand))
}

/// Regions that are made by rule of the same rung, turn, and layer by its place, by their numbers.
fn cell_seats<'a>(
    plan: &'a Plan,
    from: &'a Pass,
    to_plan: &'a Plan,
    to: &'a Pass,
) -> impl Iterator<Item = (u64, u64)> {
    let there: BTreeSet<Cell> = (to_plan.cells().into_iter())
        .filter(|cell| cell.pass == to.id)
        .collect();
    let alike = from.layers.len() == to.layers.len();
    let two = from.layers.iter().zip(&to.layers).filter(|_| alike);
    let layers: HashMap<LayerId, LayerId> = two.map(|(from, to)| (from.id, to.id)).collect();
    let of_pass = plan.cells().into_iter().filter(|cell| cell.pass == from.id);
    of_pass.filter_map(move |cell| {
        let seat = Cell {
            pass: to.id,
            layer: *layers.get(&cell.layer)?,
            ..cell
        };
        there.contains(&seat).then(|| (number_of(cell), number_of(seat)))
    })
}

/// The region of a cell, by its number.
pub(super) fn number_of(cell: Cell) -> u64 {
    let of = RegionOf::Cell {
        pass: cell.pass.0,
        key: cell.key,
        layer: cell.layer.0,
        round_robin: cell.round_robin,
    };
    of.number()
}
