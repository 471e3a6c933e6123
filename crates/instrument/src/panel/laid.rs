//! Makes the panel of what was said of it, and the controls of a program.

use super::{
    MOST_PAGES, MOST_PARTS, MOST_PRESETS, PAGE_COLUMNS, Panel, PanelPage, PanelPart, PartBox, PartKind,
    Preset, ShownAs, ShownWhen,
};
use crate::facts::said_about;
use crate::{Fact, Facts, Target};
use program::{Control, ControlId, KeptValue, KeptValues, Program, Route, Source, StrandId};
use std::collections::BTreeSet;

/// The page of what was brought with a file.
const PAGE_OF_BROUGHT: u64 = 0;

/// A number of everything of a kind that was said, by one fact.
fn all_of(said: &Facts, (least, most): (Target, Target), fact: Fact) -> Vec<u64> {
    said.range((least, fact)..=(most, fact))
        .filter(|((_, said), _)| *said == fact)
        .map(|((target, _), _)| target.kept().1)
        .collect()
}

fn optional<T: serde::de::DeserializeOwned>(said: &Facts, target: Target, fact: Fact) -> Option<T> {
    said_about::<Option<T>>(said, target, fact).flatten()
}

/// The parts, in their order. What a file brought is a slider until something else is said of it.
fn parts_of(brought: &[Control], said: &Facts) -> Vec<PanelPart> {
    let mut ids: BTreeSet<u64> = brought.iter().map(|control| control.id.0).collect();
    ids.extend(all_of(
        said,
        (Target::Part(0), Target::Part(u64::MAX)),
        Fact::PartKind,
    ));
    let mut parts: Vec<(f64, PanelPart)> = Vec::new();
    for id in ids {
        let target = Target::Part(id);
        let control = brought.iter().find(|control| control.id.0 == id);
        let kind = match said_about::<Option<PartKind>>(said, target, Fact::PartKind) {
            Some(kind) => kind,
            None => control.map(|_| PartKind::Slider),
        };
        let Some(kind) = kind else { continue };
        let (wide, high) = kind.size();
        let across = (PAGE_COLUMNS / (wide + 1)).max(1);
        let nth = u16::try_from(parts.len()).unwrap_or(u16::MAX);
        let first = PartBox {
            x: (nth % across) * (wide + 1),
            y: (nth / across).min(20) * (high + 1),
            wide,
            high,
        };
        let page = said_about::<Option<u64>>(said, target, Fact::PartPage);
        let part = PanelPart {
            id,
            kind,
            name: said_about(said, target, Fact::PartName)
                .or_else(|| control.map(|control| control.name.clone()))
                .unwrap_or_else(|| "Control".to_owned()),
            page: page.unwrap_or(control.map(|_| PAGE_OF_BROUGHT)),
            place: said_about(said, target, Fact::PartPlace).unwrap_or(first),
            shown_as: said_about::<ShownAs>(said, target, Fact::PartShownAs).unwrap_or_default(),
            at_first: said_about(said, target, Fact::PartAtFirst)
                .or(control.map(|control| control.at_first))
                .unwrap_or(0.0),
            controller: match said_about::<Option<u8>>(said, target, Fact::PartController) {
                Some(controller) => controller,
                None => control.and_then(|control| control.controller),
            },
            shown_when: optional::<ShownWhen>(said, target, Fact::PartShownWhen),
            colour: optional(said, target, Fact::PartColour),
            text: said_about(said, target, Fact::PartText).unwrap_or_default(),
            picture: optional(said, target, Fact::PartPicture),
            strand: optional::<u64>(said, target, Fact::PartStrand).map(StrandId),
            group: optional(said, target, Fact::PartGroup),
        };
        let order = optional::<f64>(said, target, Fact::PartOrder).unwrap_or(parts.len() as f64);
        parts.push((order, part));
    }
    parts.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.id.cmp(&b.1.id)));
    parts.truncate(MOST_PARTS);
    parts.into_iter().map(|(_, part)| part).collect()
}

/// The panel of a program that has the controls it was brought with: those that were said take their place, and what is driven by one that is gone is driven
/// by nothing.
pub(crate) fn lay_panel(program: &mut Program, said: &Facts) -> Panel {
    let brought = std::mem::take(&mut program.controls);
    let panel = panel_of(&brought, said);
    let of_value = panel.parts.iter().filter(|part| part.kind.has_value());
    program.controls = of_value
        .map(|part| Control {
            id: ControlId(part.id),
            name: part.name.clone(),
            at_first: part.at_first,
            controller: part.controller,
        })
        .collect();
    program.kept = (panel.presets.iter())
        .map(|preset| KeptValues {
            name: preset.name.clone(),
            program: preset.program,
            values: (preset.values.iter())
                .map(|value| KeptValue {
                    control: ControlId(value.control),
                    value: value.value,
                })
                .collect(),
        })
        .collect();
    let ids: BTreeSet<ControlId> = program.controls.iter().map(|control| control.id).collect();
    let is_there = |source: Source| match source {
        Source::Control(id) => ids.contains(&id),
        _ => true,
    };
    let stays = |route: &Route| is_there(route.from) && route.times.is_none_or(is_there);
    program.routes.retain(stays);
    for shape in &mut program.shapes {
        shape.routes.retain(stays);
    }
    panel
}

fn panel_of(brought: &[Control], said: &Facts) -> Panel {
    let mut parts = parts_of(brought, said);
    let mut pages: Vec<(f64, PanelPage)> = Vec::new();
    let ids = all_of(said, (Target::Page(0), Target::Page(u64::MAX)), Fact::PageName);
    let of_brought = (!brought.is_empty() && !ids.contains(&PAGE_OF_BROUGHT)).then_some(PAGE_OF_BROUGHT);
    for id in of_brought.into_iter().chain(ids) {
        let target = Target::Page(id);
        let name = match said_about::<Option<String>>(said, target, Fact::PageName) {
            Some(name) => name,
            None => Some("Controls".to_owned()),
        };
        let Some(name) = name else { continue };
        let page = PanelPage {
            id,
            name,
            colour: optional(said, target, Fact::PageColour),
            picture: optional(said, target, Fact::PagePicture),
            shown_when: optional::<ShownWhen>(said, target, Fact::PageShownWhen),
        };
        let place = optional::<f64>(said, target, Fact::PagePlace).unwrap_or(pages.len() as f64);
        pages.push((place, page));
    }
    pages.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.id.cmp(&b.1.id)));
    pages.truncate(MOST_PAGES);
    let mut pages: Vec<PanelPage> = pages.into_iter().map(|(_, page)| page).collect();
    let controls: BTreeSet<u64> = (parts.iter())
        .filter(|part| part.kind.has_value())
        .map(|part| part.id)
        .collect();
    // What stood on a page that is gone stands on the first.
    for part in &mut parts {
        if let Some(page) = part.page
            && !pages.iter().any(|other| other.id == page)
        {
            part.page = pages.first().map(|page| page.id);
        }
        // What was shown by a control that is gone is shown.
        part.shown_when = part.shown_when.filter(|when| controls.contains(&when.control));
    }
    for page in &mut pages {
        page.shown_when = page.shown_when.filter(|when| controls.contains(&when.control));
    }
    let mut presets: Vec<Preset> = all_of(
        said,
        (Target::Preset(0), Target::Preset(u64::MAX)),
        Fact::PresetName,
    )
    .into_iter()
    .filter_map(|id| {
        let target = Target::Preset(id);
        Some(Preset {
            id,
            name: optional(said, target, Fact::PresetName)?,
            program: optional(said, target, Fact::PresetProgram),
            values: said_about(said, target, Fact::PresetValues).unwrap_or_default(),
        })
    })
    .collect();
    presets.sort_by(|a, b| a.name.cmp(&b.name).then(a.id.cmp(&b.id)));
    presets.truncate(MOST_PRESETS);
    Panel {
        pages,
        parts,
        presets,
    }
}
