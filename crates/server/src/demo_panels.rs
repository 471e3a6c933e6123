//! The panels of the demo.

use instrument::{
    Colour, EFFECT_SETTINGS, Fact, PartBox, PartKind, RouteSaid, Said, ShownAs, ShownWhen, Target, Wish,
};
use program::{
    BusId, ControlId, CourseId, CourseTime, CurvePoint, EffectId, EffectKind, ParamId, Passes,
    ROUTES_OF_WHOLE, SUSTAIN, ShapeId, Source, StrandId,
};
use serde::Serialize;
use serde_json::json;

/// Reeds in their case, drawn by our own hand.
pub(crate) const REEDS: &str = include_str!("reeds.svg");

/// The organ's pages.
const RANKS: u64 = 1;
const ROOM: u64 = 2;
/// Its choice of ranks, and the slider that opens its room.
const RANK: u64 = 5;
const ROOM_SLIDER: u64 = 10;
/// The reverb of the whole.
const REVERB: u64 = 1;
const SILENT_DB: f64 = -96.0;
/// Where a fader that is all the way up at first lowers by which share of the most.
const FADER: [(f64, f64); 5] = [(0.0, 1.0), (0.25, 0.3), (0.5, 0.12), (0.75, 0.04), (1.0, 0.0)];

/// What is said of a panel, part after part.
#[derive(Default)]
struct Laying {
    said: Vec<Wish>,
    routes: u64,
}

impl Laying {
    fn say(&mut self, target: Target, fact: Fact, value: impl Serialize) {
        self.said
            .push(Wish::from((target, fact, Said::Value(json!(value)))));
    }

    fn page(&mut self, id: u64, name: &str) {
        self.say(Target::Page(id), Fact::PageName, name);
        self.say(Target::Page(id), Fact::PagePlace, id);
    }

    /// `None` stands on every page.
    fn part(
        &mut self,
        id: u64,
        kind: PartKind,
        (name, page): (&str, Option<u64>),
        [x, y, wide, high]: [u16; 4],
    ) {
        let part = Target::Part(id);
        self.say(part, Fact::PartKind, kind);
        self.say(part, Fact::PartName, name);
        self.say(part, Fact::PartPage, page);
        self.say(part, Fact::PartOrder, self.said.len());
        self.say(part, Fact::PartPlace, PartBox { x, y, wide, high });
    }

    fn text(&mut self, id: u64, (name, page): (&str, u64), at: [u16; 4], says: &str) {
        self.part(id, PartKind::Text, (name, Some(page)), at);
        self.say(Target::Part(id), Fact::PartText, says);
    }

    fn slider(&mut self, id: u64, (name, page): (&str, u64), at: [u16; 4], at_first: f64) {
        self.part(id, PartKind::Slider, (name, Some(page)), at);
        self.at_first(id, at_first, ShownAs::Driven);
    }

    fn at_first(&mut self, id: u64, value: f64, shown_as: ShownAs) {
        self.say(Target::Part(id), Fact::PartAtFirst, value);
        self.say(Target::Part(id), Fact::PartShownAs, shown_as);
    }

    /// Lets a control drive something by a curve of these points.
    fn drive(&mut self, control: u64, shape: ShapeId, (to, amount): (ParamId, f64), points: &[(f64, f64)]) {
        self.routes += 1;
        let route = RouteSaid {
            from: Source::Control(ControlId(control)),
            times: None,
            curve: points
                .iter()
                .map(|&(at, value)| CurvePoint { at, value })
                .collect(),
            to,
            amount,
        };
        self.say(Target::Route(shape, 500 + self.routes), Fact::Route, route);
    }

    fn drive_level(&mut self, control: u64, strand: u64, points: &[(f64, f64)]) {
        let to = (ParamId::StrandLevel(StrandId(strand)), SILENT_DB);
        self.drive(control, ROUTES_OF_WHOLE, to, points);
    }
}

fn words(of: &[&str]) -> ShownAs {
    ShownAs::Words(of.iter().map(|word| (*word).to_owned()).collect())
}

/// The organ's: two pages, of its ranks and of the room that it stands in; `picture` is the hash of its picture.
pub(crate) fn organ(picture: &str) -> Vec<Wish> {
    let mut all = Laying::default();
    all.page(RANKS, "Ranks");
    all.page(ROOM, "Room");
    all.part(3, PartKind::Picture, ("Reeds", Some(RANKS)), [1, 1, 12, 6]);
    all.say(Target::Part(3), Fact::PartPicture, picture);
    all.say(
        Target::Part(3),
        Fact::PartText,
        "Brass reeds side by side in their case",
    );
    all.part(RANK, PartKind::Choice, ("Rank", Some(RANKS)), [1, 8, 11, 3]);
    all.at_first(RANK, 1.0, words(&["front", "back", "both"]));
    all.drive_level(RANK, 0, &[(0.0, 0.0), (0.5, 1.0), (1.0, 0.0)]);
    all.drive_level(RANK, 1, &[(0.0, 1.0), (0.5, 0.0), (1.0, 0.0)]);
    let says = "Recorded in the parlour at Fernhollow. The felt falls when a key comes up.";
    all.text(6, ("Where it stands", RANKS), [1, 12, 12, 3], says);

    all.part(7, PartKind::Slider, ("Balance", Some(RANKS)), [14, 1, 10, 3]);
    all.at_first(7, 0.5, ShownAs::Share);
    all.say(Target::Part(7), Fact::PartController, 21);
    let both = ShownWhen {
        control: RANK,
        // From half way to the word before it.
        low: 0.775,
        high: 1.0,
    };
    all.say(Target::Part(7), Fact::PartShownWhen, both);
    let leaves = [(0.0, 0.0), (0.5, 0.0), (0.75, 0.08), (0.9, 0.25), (1.0, 1.0)];
    all.drive_level(7, 0, &leaves);
    let mut comes = leaves.map(|(at, value)| (1.0 - at, value));
    comes.reverse();
    all.drive_level(7, 1, &comes);
    all.slider(8, ("Brightness", RANKS), [25, 1, 10, 3], 1.0);
    all.slider(9, ("Felt", RANKS), [14, 5, 10, 3], 1.0);
    all.drive_level(9, 2, &FADER);
    all.slider(ROOM_SLIDER, ("Room", RANKS), [25, 5, 10, 3], 0.0);
    all.slider(11, ("Attack", RANKS), [14, 9, 10, 3], 0.0);
    for rank in [0, 1] {
        let (strand, of) = (Target::Strand(StrandId(rank)), ShapeId(rank));
        // An open filter, for Brightness to close.
        all.say(
            strand,
            Fact::FilterForm,
            json!({ "passes": Passes::Low, "poles": 2 }),
        );
        all.say(strand, Fact::FilterCutoffHz, 20_000);
        all.drive(8, of, (ParamId::Cutoff, 6_000.0), &[(0.0, -1.0), (1.0, 0.0)]);
        let attack = ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Attack);
        all.drive(11, of, (attack, 7.0), &[]);
    }
    all.part(12, PartKind::Meter, ("Level", None), [25, 9, 10, 3]);
    room(&mut all);
    all.said
}

/// The second page: a slider for each setting of the reverb but its mix, which the first page has.
fn room(all: &mut Laying) {
    let reverb = Target::Effect(BusId::WHOLE, REVERB);
    all.say(reverb, Fact::EffectKind, EffectKind::Reverb);
    let mut nth: u16 = 0;
    for ((place, setting), fact) in (0u16..).zip(EffectKind::Reverb.settings()).zip(EFFECT_SETTINGS) {
        let to = ParamId::Effect(EffectId(REVERB), place);
        if setting.name == "Mix" {
            // Dry until somebody opens it.
            all.say(reverb, fact, 0);
            all.drive(ROOM_SLIDER, ROUTES_OF_WHOLE, (to, 50.0), &[]);
            continue;
        }
        let id = 20 + u64::from(place);
        let at = [1 + (nth % 2) * 12, 1 + (nth / 2) * 4, 10, 3];
        all.slider(id, (setting.name, ROOM), at, 0.5);
        let by = if setting.is_by_ratio() {
            1.5
        } else {
            (setting.high - setting.low) / 4.0
        };
        all.drive(id, ROUTES_OF_WHOLE, (to, by), &[(0.0, -1.0), (1.0, 1.0)]);
        nth += 1;
    }
    let says = "How much of the room is heard, the slider Room on the first page says.";
    all.text(40, ("About the room", ROOM), [25, 1, 10, 4], says);
    all.say(Target::Part(40), Fact::PartColour, Colour::Moss);
}

/// The chimes': what lifts their damper and lets it fall.
pub(crate) fn chimes() -> Vec<Wish> {
    let mut all = Laying::default();
    all.page(1, "Bars");
    all.part(2, PartKind::Switch, ("Damper", Some(1)), [1, 1, 12, 3]);
    all.at_first(2, 0.0, words(&["on the bars", "lifted"]));
    all.say(Target::Part(2), Fact::PartController, SUSTAIN);
    let says = "The bars ring whatever their keys do. Lifted and let fall, the damper ends them; the sustain pedal moves it too.";
    all.text(3, ("How it is damped", 1), [14, 1, 21, 3], says);
    all.slider(4, ("Brightness", 1), [1, 5, 12, 3], 0.5);
    let both_ways = [(0.0, -1.0), (1.0, 1.0)];
    all.drive(4, ShapeId(0), (ParamId::Cutoff, 2_400.0), &both_ways);
    all.slider(5, ("Felt", 1), [14, 5, 10, 3], 1.0);
    all.drive_level(5, 1, &FADER);
    all.part(6, PartKind::Meter, ("Level", Some(1)), [25, 5, 10, 3]);
    all.said
}
