//! Lays what was said of what drives a strand over its shape.

use crate::driving::{FilterForm, RouteSaid};
use crate::facts::said_about;
use crate::{Fact, Facts, Target};
use program::{
    Course, CourseId, Curve, CurveId, Filter, MOST_COURSES, MOST_MOVEMENTS, MOST_ROUTES, Movement,
    MovementId, ParamId, Passes, Route, RouteId, SampleId, Shape, ShapeId,
};
use serde::de::DeserializeOwned;

/// A filter where nothing of it is said: its own choice.
const FIRST_FILTER: Filter = Filter {
    passes: Passes::Low,
    poles: 2,
    cutoff_hz: 4_000.0,
    key_follow: 0.0,
    resonance_db: 0.0,
    makes_up: false,
};

fn curve_id(shape: ShapeId, route: u64) -> CurveId {
    CurveId(SampleId::of("curve", &[shape.0, route]).0)
}

/// Every part of a kind that was said of a shape, by its number and made by it; `None` where it is said to be gone.
fn parts_of<S: DeserializeOwned, T>(
    said: &Facts,
    (part, fact): (impl Fn(u64) -> Target, Fact),
    mut make: impl FnMut(u64, S) -> T,
) -> Vec<(u64, Option<T>)> {
    said.range((part(0), fact)..=(part(u64::MAX), fact))
        .filter_map(|((target, _), value)| {
            let (_, _, number) = target.kept();
            let part: Option<S> = serde_json::from_value(value.clone()).ok()?;
            Some((number, part.map(|part| make(number, part))))
        })
        .collect()
}

/// Lays parts over those that there are, by their names, as many as there may be.
fn lay_parts<T>(over: &mut Vec<T>, parts: Vec<(u64, Option<T>)>, name: fn(&T) -> u64, most: usize) {
    for (number, part) in parts {
        let place = over.iter().position(|other| name(other) == number);
        match (place, part) {
            (Some(place), Some(part)) => over[place] = part,
            (Some(place), None) => drop(over.remove(place)),
            (None, Some(part)) => over.push(part),
            (None, None) => {}
        }
    }
    over.truncate(most);
}

/// Lays what was said of a filter, and of the courses, movements and routes of a shape of that name, over those of another; the curves of its routes.
pub(crate) fn lay_driving(shape: &mut Shape, (of, id): (Target, ShapeId), said: &Facts) -> Vec<Curve> {
    shape.filter = said_of_filter(shape.filter, of, said);
    // Each has the name by which it is said, whatever stands in it.
    let mut courses = parts_of(
        said,
        (|n| Target::Course(id, n), Fact::Course),
        |n, course: Course| Course {
            id: CourseId(n),
            ..course
        },
    );
    // That of loudness stands among its numbers.
    courses.retain(|(number, _)| *number != CourseId::LOUDNESS.0);
    lay_parts(&mut shape.courses, courses, |course| course.id.0, MOST_COURSES);
    let movements = parts_of(
        said,
        (|n| Target::Movement(id, n), Fact::Movement),
        |n, movement: Movement| Movement {
            id: MovementId(n),
            ..movement
        },
    );
    lay_parts(
        &mut shape.movements,
        movements,
        |movement| movement.id.0,
        MOST_MOVEMENTS,
    );
    let (routes, curves) = said_routes(id, said);
    lay_parts(&mut shape.routes, routes, |route| route.id.0, MOST_ROUTES);
    // What drives the whole is said of that.
    shape.routes.retain(|route| !is_of_whole(route.to));
    curves
}

fn is_of_whole(to: ParamId) -> bool {
    matches!(to, ParamId::StrandLevel(_) | ParamId::Effect(..))
}

/// The routes that were said under the name of a shape which nothing else has any of, and their curves.
pub(crate) fn routes_of(id: ShapeId, said: &Facts) -> (Vec<Route>, Vec<Curve>) {
    let (routes, curves) = said_routes(id, said);
    (
        routes.into_iter().filter_map(|(_, route)| route).collect(),
        curves,
    )
}

/// Routes by their numbers, `None` for those that are gone, and their curves.
fn said_routes(id: ShapeId, said: &Facts) -> (Vec<(u64, Option<Route>)>, Vec<Curve>) {
    let mut curves = Vec::new();
    let routes = parts_of(
        said,
        (|n| Target::Route(id, n), Fact::Route),
        |n, route: RouteSaid| {
            let named = curve_id(id, n);
            let curve = (!route.curve.is_empty()).then_some(named);
            if curve.is_some() {
                curves.push(Curve {
                    id: named,
                    points: route.curve,
                });
            }
            Route {
                id: RouteId(n),
                from: route.from,
                times: route.times,
                curve,
                to: route.to,
                amount: route.amount,
            }
        },
    );
    (routes, curves)
}

fn said_of_filter(first: Option<Filter>, target: Target, said: &Facts) -> Option<Filter> {
    let form: Option<FilterForm> = match said_about::<Option<FilterForm>>(said, target, Fact::FilterForm) {
        Some(form) => form,
        None => first.map(|Filter { passes, poles, .. }| FilterForm { passes, poles }),
    };
    let FilterForm { passes, poles } = form?;
    let first = first.unwrap_or(FIRST_FILTER);
    let of = |fact: Fact, first: f64| said_about::<f64>(said, target, fact).unwrap_or(first);
    Some(Filter {
        passes,
        poles,
        cutoff_hz: of(Fact::FilterCutoffHz, first.cutoff_hz),
        key_follow: of(Fact::FilterKeyFollow, first.key_follow),
        resonance_db: of(Fact::FilterResonanceDb, first.resonance_db),
        makes_up: said_about(said, target, Fact::FilterMakesUp).unwrap_or(first.makes_up),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::driving::{is_filter_form, is_movement, is_route};
    use crate::{Change, Said, Wish, lay_over};
    use program::Rate;
    use serde_json::{Value, json};

    use program::StrandId;

    const ONE: (Target, ShapeId) = (Target::Strand(StrandId(1)), ShapeId(1));
    const TWO: (Target, ShapeId) = (Target::Strand(StrandId(2)), ShapeId(2));

    fn said(wishes: Vec<(Target, Fact, Value)>) -> Facts {
        let mut facts = Facts::new();
        for (target, fact, value) in wishes {
            let wish = Wish::from((target, fact, Said::Value(value)));
            let change = Change::propose("x", &facts, vec![wish]).unwrap();
            lay_over(&mut facts, &change.fields);
        }
        facts
    }

    #[test]
    fn a_filter_is_there_when_its_form_is_said_and_each_number_stays_by_itself() {
        let strand = ONE.0;
        let mut shape = Shape::default();
        let facts = said(vec![(strand, Fact::FilterCutoffHz, json!(900))]);
        lay_driving(&mut shape, ONE, &facts);
        assert_eq!(shape.filter, None);
        let facts = said(vec![
            (strand, Fact::FilterCutoffHz, json!(900)),
            (strand, Fact::FilterForm, json!({"passes": "high", "poles": 1})),
        ]);
        lay_driving(&mut shape, ONE, &facts);
        let filter = shape.filter.unwrap();
        assert_eq!(
            (filter.passes, filter.poles, filter.cutoff_hz),
            (Passes::High, 1, 900.0)
        );
        // A copy of it may have none.
        let facts = said(vec![(TWO.0, Fact::FilterForm, json!(null))]);
        lay_driving(&mut shape, TWO, &facts);
        assert_eq!(shape.filter, None);
    }

    #[test]
    fn parts_are_laid_over_by_their_numbers_and_may_be_gone() {
        let mut shape = Shape::default();
        let route = |amount: f64, curve: Value| json!({"from": "strike", "to": "cutoff", "amount": amount, "curve": curve});
        let facts = said(vec![
            (Target::Route(ONE.1, 4), Fact::Route, route(1_200.0, json!([]))),
            (
                Target::Route(ONE.1, 5),
                Fact::Route,
                route(
                    -600.0,
                    json!([{"at": 0.0, "value": 0.0}, {"at": 1.0, "value": 1.0}]),
                ),
            ),
            (
                Target::Movement(ONE.1, 1),
                Fact::Movement,
                json!({"wave": "sine", "rate": {"hz": 5.0}}),
            ),
            (Target::Route(TWO.1, 4), Fact::Route, json!(null)),
        ]);
        let curves = lay_driving(&mut shape, ONE, &facts);
        assert_eq!(shape.routes.iter().map(|r| r.id.0).collect::<Vec<_>>(), [4, 5]);
        assert_eq!(shape.routes[1].curve, Some(curves[0].id));
        assert_eq!(shape.movements[0].rate, Rate::Hz(5.0));
        lay_driving(&mut shape, TWO, &facts);
        assert_eq!(shape.routes.iter().map(|r| r.id.0).collect::<Vec<_>>(), [5]);
    }

    #[test]
    fn what_nothing_plays_or_goes_too_far_is_refused() {
        for value in [
            json!({"from": "strike", "to": "pitch", "amount": 9_999.0}),
            json!({"from": {"controller": 120}, "to": "pitch", "amount": 1.0}),
            json!({"from": "strike", "to": {"strand_level": 3}, "amount": 1.0}),
            json!({"from": "strike", "to": "pitch", "amount": 1.0, "curve": [{"at": 0.5, "value": 2.0}]}),
            json!({"from": "moon", "to": "pitch", "amount": 1.0}),
        ] {
            assert!(!is_route(&value), "{value}");
        }
        assert!(is_route(
            &json!({"from": {"movement": 1}, "times": {"controller": 1}, "to": "pitch", "amount": 20.0})
        ));
        assert!(!is_movement(&json!({"wave": "sine", "rate": {"hz": 400.0}})));
        assert!(!is_filter_form(&json!({"passes": "band", "poles": 1})));
        assert!(is_filter_form(&json!(null)) && is_filter_form(&json!({"passes": "notch", "poles": 4})));
    }
}
