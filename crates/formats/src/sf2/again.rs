//! Shapes as a SoundFont has them: written, and read again.

use super::file::Said;
use super::shapes::shape_of;
use super::write::Tables;
use super::zone::Both;
use program::{Program, Shape, ShapeId};

/// A shape as it is read again once it was written.
pub(crate) fn as_read(shape: &Shape) -> Shape {
    let mut tables = Tables::default();
    tables.shape(shape);
    let said = Said::of_tables(&tables.igen, &tables.imod);
    Shape {
        id: shape.id,
        ..shape_of(&Both::of_shape(said)).0
    }
}

/// What an instrument's regions share stands in its first zone: a strand has the shape of the first of its regions, and others have one of their own where
/// theirs is another.
pub(crate) fn share_first_shapes(program: &mut Program) {
    for n in 0..program.strands.len() {
        let (id, of_strand) = (program.strands[n].id, program.strands[n].shape);
        let Some(own) = program.regions_of(id).next().and_then(|first| first.shape) else {
            continue;
        };
        let place = |program: &Program, of: ShapeId| program.shapes.iter().position(|shape| shape.id == of);
        let (Some(strands), Some(firsts)) = (place(program, of_strand), place(program, own)) else {
            continue;
        };
        let before = program.shapes[strands].clone();
        let first = program.shapes[firsts].clone();
        program.shapes[strands] = Shape {
            id: of_strand,
            ..first
        };
        let mut of_others = None;
        for region in program
            .regions
            .iter_mut()
            .filter(|region| region.key.strand == id)
        {
            region.shape = match region.shape {
                Some(shape) if shape == own => None,
                Some(shape) => Some(shape),
                None => Some(*of_others.get_or_insert(ShapeId(program.shapes.len() as u64))),
            };
        }
        program.shapes.extend(of_others.map(|id| Shape { id, ..before }));
    }
}
