//! What is set while it is dragged: heard at once. The next program that is taken has the last word.

use crate::setting::{set, set_effect, set_shape};
use crate::{EffectSetting, Engine, Setting, ShapeSetting};
use program::{EffectId, Region, SampleId, Shape, ShapeId, StrandId};

impl Engine {
    /// Sets one number of all regions of a sample while it is dragged: heard at once by what sounds. What does not fit is ignored; the next program
    /// that is taken has the last word.
    pub fn set(&mut self, sample: SampleId, setting: Setting, value: f64) {
        if !value.is_finite() {
            return;
        }
        let Some(index) = self.program.samples.iter().position(|of| of.id == sample) else {
            return;
        };
        for region in self
            .program
            .regions
            .iter_mut()
            .filter(|region| region.sample == index)
        {
            set(region, setting, value);
        }
        self.follow();
    }

    /// Sets one number of a shape while it is dragged, of what there are several of that with a name: heard at once by what sounds. The next program
    /// that is taken has the last word.
    pub fn shape(&mut self, id: ShapeId, setting: ShapeSetting, of: u64, value: f64) {
        let shape = self.program.shapes.iter_mut().find(|shape| shape.id == id);
        if let Some(shape) = shape.filter(|_| value.is_finite()) {
            set_shape(shape, setting, of, value);
            self.follow();
        }
    }

    /// Sets a number of an effect while it is dragged; heard at once. The next program that is taken has the last word.
    pub fn effect(&mut self, id: EffectId, setting: EffectSetting, value: f64) {
        let effects = self.program.buses.iter_mut().flat_map(|bus| &mut bus.effects);
        let effect = effects.into_iter().find(|effect| effect.id == id);
        if let Some(effect) = effect.filter(|_| value.is_finite()) {
            set_effect(effect, setting, value);
            self.mix.set(effect);
        }
    }

    /// Gives a region a shape of its own while it is dragged, which is its strand's at first; one that has its own keeps it.
    pub fn shape_for_itself(&mut self, strand: StrandId, number: u64) {
        let is_it = |region: &Region| region.key.strand == strand && region.key.of.number() == number;
        let Some(n) = self.program.regions.iter().position(is_it) else {
            return;
        };
        let region = &self.program.regions[n];
        let before = self.program.shape_of_region(region);
        if let (None, Some(before)) = (region.shape, before) {
            let id = ShapeId::of_region(region.key);
            let shape = Shape {
                id,
                ..self.program.shapes[before].clone()
            };
            self.program.shapes.push(shape);
            self.program.regions[n].shape = Some(id);
            self.follow();
        }
    }

    /// Puts a region on other keys and strikes while it is dragged: what is struck from now on obeys. Its fades stay where they are, as far as they lie
    /// within. The next program that is taken has the last word.
    pub fn place(&mut self, strand: StrandId, number: u64, keys: (u8, u8), strikes: (u8, u8)) {
        let fits = |(low, high): (u8, u8)| low <= high && high <= 127;
        let place = self.places.get(&(strand, number));
        let Some((place, region)) =
            place.and_then(|place| Some((*place, self.program.regions.get_mut(*place)?)))
        else {
            return;
        };
        if fits(keys) && fits(strikes) {
            self.turns.move_to_keys(place, region, keys);
            (region.when.keys.low, region.when.keys.high) = keys;
            (region.when.strikes.low, region.when.strikes.high) = strikes;
        }
    }

    pub(crate) fn follow(&mut self) {
        for voice in self.voices.active() {
            voice.follow(&self.program);
        }
    }
}
