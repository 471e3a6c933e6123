//! The panel: what whoever plays an instrument sees and moves. Pages of a grid, the parts that stand there, and sets of values under names.

mod laid;
mod offered;

pub(crate) use laid::lay_panel;
pub use offered::offered_panel;

use program::StrandId;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// Columns of a page's grid.
pub const PAGE_COLUMNS: u16 = 36;
/// Most rows of it.
pub const MOST_ROWS: u16 = 120;
/// Most parts of a panel.
pub const MOST_PARTS: usize = 256;
const MOST_PAGES: usize = 16;
const MOST_PRESETS: usize = 128;
/// Most words of a choice.
const MOST_WORDS: usize = 16;
const MOST_UNIT_LETTERS: usize = 12;

/// What a part is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PartKind {
    /// A value from least to most.
    Slider,
    /// On or off.
    Switch,
    /// One of several words.
    Choice,
    /// A value that is typed.
    Number,
    /// Words that are read.
    Text,
    /// A picture.
    Picture,
    /// How loud it is.
    Meter,
    /// Keys to play.
    Keyboard,
    /// How loudness runs over time, as it is played.
    Course,
}

impl PartKind {
    /// Whether it has a value that a player sets.
    pub fn has_value(self) -> bool {
        matches!(self, Self::Slider | Self::Switch | Self::Choice | Self::Number)
    }

    /// How many columns and rows a new one takes.
    pub fn size(self) -> (u16, u16) {
        match self {
            Self::Slider | Self::Choice | Self::Meter => (10, 3),
            Self::Switch => (7, 3),
            Self::Number => (6, 3),
            Self::Text => (12, 3),
            Self::Picture => (12, 6),
            Self::Course => (10, 5),
            Self::Keyboard => (PAGE_COLUMNS, 4),
        }
    }
}

/// Where a part stands on its page, in columns and rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
pub struct PartBox {
    /// From the left.
    pub x: u16,
    /// From the top.
    pub y: u16,
    /// Columns.
    pub wide: u16,
    /// Rows.
    pub high: u16,
}

impl PartBox {
    fn fits(&self) -> bool {
        self.wide >= 2
            && self.high >= 1
            && u32::from(self.x) + u32::from(self.wide) <= u32::from(PAGE_COLUMNS)
            && u32::from(self.y) + u32::from(self.high) <= u32::from(MOST_ROWS)
    }

    /// Whether two share a place.
    pub fn meets(&self, other: &Self) -> bool {
        let apart = |from: u16, over: u16, other_from: u16, other_over: u16| {
            from + over <= other_from || other_from + other_over <= from
        };
        !apart(self.x, self.wide, other.x, other.wide) && !apart(self.y, self.high, other.y, other.high)
    }
}

/// How a value is read.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ShownAs {
    /// As a share of its way, in percent.
    #[default]
    Share,
    /// As what it does to the first thing that it drives, in the unit of that.
    Driven,
    /// As a number between two, with a unit.
    Between {
        /// At its least.
        low: f64,
        /// At its most.
        high: f64,
        /// Behind the number.
        unit: String,
    },
    /// As one of several words, from its least to its most.
    Words(Vec<String>),
}

impl ShownAs {
    fn fits(&self) -> bool {
        match self {
            Self::Share | Self::Driven => true,
            Self::Between { low, high, unit } => {
                low.is_finite()
                    && high.is_finite()
                    && low != high
                    && unit.chars().count() <= MOST_UNIT_LETTERS
            }
            Self::Words(words) => {
                let fits = |word: &String| !word.trim().is_empty() && word.chars().count() <= 40;
                (2..=MOST_WORDS).contains(&words.len()) && words.iter().all(fits)
            }
        }
    }
}

/// A control that has to stand somewhere for a part, or a page, to be shown.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ShownWhen {
    /// Which.
    pub control: u64,
    /// From here, 0 to 1.
    pub low: f64,
    /// To here.
    pub high: f64,
}

impl ShownWhen {
    fn fits(&self) -> bool {
        0.0 <= self.low && self.low <= self.high && self.high <= 1.0
    }
}

/// A colour by its name: those that text can be read on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Colour {
    /// A pale grey.
    Stone,
    /// A pale green.
    Moss,
    /// A pale blue.
    Water,
    /// A pale red.
    Clay,
    /// A pale yellow.
    Straw,
    /// A pale violet.
    Heather,
}

/// A page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PanelPage {
    /// Its name for good.
    pub id: u64,
    /// As the player sees it.
    pub name: String,
    /// Beneath its parts.
    pub colour: Option<Colour>,
    /// A picture beneath its parts, by its hash.
    pub picture: Option<String>,
    /// When it is shown; `None` always.
    pub shown_when: Option<ShownWhen>,
}

/// Something that stands on a page, or on all of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PanelPart {
    /// Its name for good; that of a control ([`program::ControlId`]), where it has a value.
    pub id: u64,
    /// What it is.
    pub kind: PartKind,
    /// As the player sees it.
    pub name: String,
    /// Its page; `None` stands on every page.
    pub page: Option<u64>,
    /// Where.
    pub place: PartBox,
    /// How its value is read.
    pub shown_as: ShownAs,
    /// Where its value stands at first, 0 to 1.
    pub at_first: f64,
    /// The MIDI controller that moves it too.
    pub controller: Option<u8>,
    /// When it is shown; `None` always.
    pub shown_when: Option<ShownWhen>,
    /// Its colour.
    pub colour: Option<Colour>,
    /// What a text says, or what a picture shows, for those who do not see it.
    pub text: String,
    /// The picture, by its hash.
    pub picture: Option<String>,
    /// Whose course is drawn.
    pub strand: Option<StrandId>,
    /// Parts of one group are listed and chosen together.
    pub group: Option<String>,
}

/// Where a control stands in a [`Preset`].
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PresetValue {
    /// Which.
    pub control: u64,
    /// 0 to 1.
    pub value: f64,
}

/// A set of values under a name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Preset {
    /// Its name for good.
    pub id: u64,
    /// As the player sees it.
    pub name: String,
    /// The MIDI program change that recalls it, 1 to 128.
    pub program: Option<u8>,
    /// Of every control that there was.
    pub values: Vec<PresetValue>,
}

/// All of it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Panel {
    /// In their order.
    pub pages: Vec<PanelPage>,
    /// In the order in which they are listed, and reached by Tab.
    pub parts: Vec<PanelPart>,
    /// Sets of values, in the order of their names.
    pub presets: Vec<Preset>,
}

fn read<T: serde::de::DeserializeOwned>(value: &Value) -> Option<Option<T>> {
    serde_json::from_value(value.clone()).ok()
}

pub(crate) fn is_part_box(value: &Value) -> bool {
    read::<PartBox>(value).flatten().is_some_and(|place| place.fits())
}

pub(crate) fn is_shown_as(value: &Value) -> bool {
    read::<ShownAs>(value).flatten().is_some_and(|shown| shown.fits())
}

pub(crate) fn is_shown_when(value: &Value) -> bool {
    read::<ShownWhen>(value).is_some_and(|when| when.is_none_or(|when| when.fits()))
}

/// A hash of a picture that is kept, or none.
pub(crate) fn is_picture(value: &Value) -> bool {
    let fits = |hash: &str| hash.len() == 64 && hash.bytes().all(|byte| byte.is_ascii_hexdigit());
    value.is_null() || value.as_str().is_some_and(fits)
}

pub(crate) fn are_preset_values(value: &Value) -> bool {
    let fits = |of: &PresetValue| (0.0..=1.0).contains(&of.value);
    serde_json::from_value::<Vec<PresetValue>>(value.clone())
        .is_ok_and(|values| values.len() <= MOST_PARTS && values.iter().all(fits))
}

pub(crate) fn is_own_controller(value: &Value) -> bool {
    value.is_null() || value.as_u64().is_some_and(|controller| controller < 120)
}

pub(crate) fn is_program(value: &Value) -> bool {
    value.is_null() || value.as_u64().is_some_and(|program| (1..=128).contains(&program))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, ChangeError, Fact, Facts, Said, Target, Wish, lay_over, lay_strands};
    use program::{
        Control, ControlId, CourseId, CourseTime, EffectKind, On, ParamId, Program, ROUTES_OF_WHOLE, Shape,
        ShapeId, Source, Strand,
    };
    use serde_json::json;

    fn say<W: Into<Wish>>(facts: &mut Facts, wishes: Vec<W>) -> Result<(), ChangeError> {
        let change = Change::propose("x", facts, wishes)?;
        lay_over(facts, &change.fields);
        Ok(())
    }

    fn value(target: Target, fact: Fact, value: Value) -> (Target, Fact, Said) {
        (target, fact, Said::Value(value))
    }

    fn organ() -> Program {
        let strand = |n: u64, name: &str| Strand::new(StrandId(n), name, ShapeId(n));
        let shape = |n: u64| Shape {
            id: ShapeId(n),
            ..Shape::default()
        };
        let mut program = Program {
            strands: vec![strand(1, "Front"), strand(2, "Back"), strand(3, "Felt")],
            shapes: vec![shape(1), shape(2), shape(3)],
            ..Program::default()
        };
        program.strands[2].on = On::KEY_UP;
        program
    }

    fn laid(said: &Facts, mut program: Program) -> (Program, Panel) {
        lay_strands(&mut program, said);
        let panel = lay_panel(&mut program, said);
        (program, panel)
    }

    #[test]
    fn parts_stand_where_they_were_put_in_their_order() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        let (page, one, two) = (Target::Page(4), Target::Part(7), Target::Part(8));
        say(
            &mut said,
            vec![
                value(page, Fact::PageName, json!("Ranks")),
                value(one, Fact::PartKind, json!("slider")),
                value(one, Fact::PartName, json!("Balance")),
                value(one, Fact::PartPage, json!(4)),
                value(one, Fact::PartAtFirst, json!(0.5)),
                value(one, Fact::PartController, json!(20)),
                value(two, Fact::PartKind, json!("text")),
                value(two, Fact::PartOrder, json!(-1)),
                value(
                    page,
                    Fact::PageShownWhen,
                    json!({"control": 7, "low": 0.4, "high": 1.0}),
                ),
                value(
                    two,
                    Fact::PartShownWhen,
                    json!({"control": 7, "low": 0.4, "high": 1.0}),
                ),
            ],
        )?;
        let (program, panel) = laid(&said, organ());
        let order: Vec<u64> = panel.parts.iter().map(|part| part.id).collect();
        assert_eq!(order, [8, 7]);
        assert_eq!((panel.parts[1].page, panel.parts[0].page), (Some(4), None));
        assert_eq!(panel.parts[0].shown_when.map(|when| when.control), Some(7));
        assert_eq!(
            program.controls,
            [Control {
                id: ControlId(7),
                name: "Balance".into(),
                at_first: 0.5,
                controller: Some(20)
            }]
        );
        assert_eq!(panel.pages[0].shown_when.map(|when| when.control), Some(7));
        // The control goes: nothing waits for it, and its page with it leaves all else.
        let mut without = said.clone();
        say(&mut without, vec![value(one, Fact::PartKind, Value::Null)])?;
        assert_eq!(laid(&without, organ()).1.pages[0].shown_when, None);
        say(
            &mut said,
            vec![
                value(one, Fact::PartKind, Value::Null),
                value(two, Fact::PartPage, json!(4)),
                value(page, Fact::PageName, Value::Null),
            ],
        )?;
        // What says nothing of where it stands, stands within, however wide it is.
        for (id, kind) in [(20, "keyboard"), (21, "picture"), (22, "slider")] {
            say(
                &mut said,
                vec![value(Target::Part(id), Fact::PartKind, json!(kind))],
            )?;
        }
        let (program, panel) = laid(&said, organ());
        assert!(panel.parts.iter().all(|part| part.place.fits()));
        assert_eq!(program.controls.len(), 1);
        say(
            &mut said,
            vec![value(Target::Part(22), Fact::PartKind, Value::Null)],
        )?;
        let (program, panel) = laid(&said, organ());
        assert!(program.controls.is_empty() && panel.pages.is_empty());
        assert_eq!((panel.parts[0].shown_when, panel.parts[0].page), (None, None));
        Ok(())
    }

    #[test]
    fn what_a_control_drove_is_driven_by_nothing_once_it_is_gone() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        let route = |to: Value| json!({"from": {"control": 7}, "to": to, "amount": -20.0});
        say(
            &mut said,
            vec![
                value(Target::Part(7), Fact::PartKind, json!("slider")),
                value(
                    Target::Route(ROUTES_OF_WHOLE, 1),
                    Fact::Route,
                    route(json!({"strand_level": 1})),
                ),
                value(Target::Route(ShapeId(2), 1), Fact::Route, route(json!("cutoff"))),
            ],
        )?;
        let (program, _) = laid(&said, organ());
        assert_eq!((program.routes.len(), program.shapes[1].routes.len()), (1, 1));
        say(
            &mut said,
            vec![value(Target::Part(7), Fact::PartKind, Value::Null)],
        )?;
        let (program, _) = laid(&said, organ());
        assert!(program.routes.is_empty() && program.shapes[1].routes.is_empty());
        Ok(())
    }

    #[test]
    fn what_cannot_stand_there_is_refused_with_a_sentence() {
        let part = Target::Part(1);
        for (fact, wrong) in [
            (Fact::PartPlace, json!({"x": 30, "y": 0, "wide": 10, "high": 3})),
            (Fact::PartPlace, json!({"x": 0, "y": 0, "wide": 1, "high": 3})),
            (Fact::PartShownAs, json!({"words": ["one"]})),
            (
                Fact::PartShownAs,
                json!({"between": {"low": 1, "high": 1, "unit": "dB"}}),
            ),
            (Fact::PartAtFirst, json!(1.5)),
            (Fact::PartController, json!(120)),
            (Fact::PartColour, json!("crimson")),
            (Fact::PartPicture, json!("../../secret")),
            (
                Fact::PartShownWhen,
                json!({"control": 1, "low": 0.6, "high": 0.5}),
            ),
        ] {
            let wish = vec![value(part, fact, wrong.clone())];
            assert!(Change::propose("x", &Facts::new(), wish).is_err(), "{wrong}");
        }
        for (fact, right) in [
            (Fact::PartPlace, json!({"x": 26, "y": 0, "wide": 10, "high": 3})),
            (Fact::PartShownAs, json!({"words": ["front", "back", "both"]})),
            (Fact::PartShownAs, json!("driven")),
            (Fact::PartPicture, json!("0".repeat(64))),
        ] {
            let wish = vec![value(part, fact, right)];
            assert!(Change::propose("x", &Facts::new(), wish).is_ok());
        }
    }

    #[test]
    fn what_a_file_brought_has_a_page_until_something_else_is_said() -> Result<(), ChangeError> {
        let mut program = organ();
        program.controls = vec![Control {
            id: ControlId(0),
            name: "Brightness".into(),
            at_first: 0.25,
            controller: Some(74),
        }];
        let mut said = Facts::new();
        let (_, panel) = laid(&said, program.clone());
        assert_eq!(panel.pages[0].name, "Controls");
        let part = &panel.parts[0];
        assert_eq!(
            (part.name.as_str(), part.kind, part.controller, part.page),
            ("Brightness", PartKind::Slider, Some(74), Some(0))
        );
        say(
            &mut said,
            vec![
                value(Target::Part(0), Fact::PartName, json!("Bright")),
                value(Target::Part(0), Fact::PartController, Value::Null),
            ],
        )?;
        let (program, panel) = laid(&said, program);
        assert_eq!(
            (panel.parts[0].name.as_str(), panel.parts[0].controller),
            ("Bright", None)
        );
        assert_eq!(program.controls[0].at_first, 0.25);
        Ok(())
    }

    #[test]
    fn a_panel_is_offered_that_changes_nothing_until_it_is_moved() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        say(&mut said, offered_panel(&organ()))?;
        let (program, panel) = laid(&said, organ());
        let names: Vec<&str> = panel.parts.iter().map(|part| part.name.as_str()).collect();
        assert_eq!(
            names,
            [
                "Balance",
                "Brightness",
                "Attack",
                "Release",
                "Felt",
                "Room",
                "Level"
            ]
        );
        // Nothing lies over anything else.
        for (n, part) in panel.parts.iter().enumerate() {
            assert!(part.place.fits());
            assert!(
                panel.parts[..n]
                    .iter()
                    .all(|other| !other.place.meets(&part.place))
            );
        }
        let at = |route: &program::Route, moved: Option<f64>| {
            let Source::Control(id) = route.from else {
                return f64::NAN;
            };
            let control = program.controls.iter().find(|control| control.id == id).unwrap();
            route.does(moved.unwrap_or(control.at_first), program.curve_of(route))
        };
        let all = program
            .routes
            .iter()
            .chain(program.shapes.iter().flat_map(|shape| &shape.routes));
        assert!(all.clone().count() >= 9);
        for route in all.clone() {
            assert_eq!(at(route, None), 0.0, "{route:?}");
            // And each does something at one end.
            let most = at(route, Some(0.0)).abs().max(at(route, Some(1.0)).abs());
            assert!(most > 1.0, "{route:?}");
        }
        // One rank leaves as the other stays.
        let level = |strand: u64, moved: f64| {
            let to = ParamId::StrandLevel(StrandId(strand));
            let route = program.routes.iter().find(|route| route.to == to).unwrap();
            at(route, Some(moved))
        };
        assert_eq!((level(1, 0.0), level(2, 0.0)), (0.0, -96.0));
        assert_eq!((level(1, 1.0), level(2, 1.0)), (-96.0, 0.0));
        assert_eq!(program.buses[0].effects[0].kind, EffectKind::Reverb);
        assert_eq!(program.shapes[0].filter.unwrap().cutoff_hz, 20_000.0);
        let attack = ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Attack);
        assert!(program.shapes[0].routes.iter().any(|route| route.to == attack));
        // What drives nothing is offered nothing.
        assert!(offered_panel(&Program::default()).is_empty());
        Ok(())
    }
}
