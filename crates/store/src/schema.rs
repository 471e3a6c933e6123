//! The tables, as the migrations make them.

use diesel::{allow_tables_to_appear_in_same_query, table};

table! {
    instruments (id) {
        id -> Unsigned<BigInt>,
        name -> Text,
        plan -> Text,
        kept_at -> Datetime,
    }
}

table! {
    brought (instrument_id) {
        instrument_id -> Unsigned<BigInt>,
        was_read -> Text,
        file -> Text,
        source -> Text,
        lost -> Text,
    }
}

table! {
    editions (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        number -> Unsigned<Integer>,
        notes -> Text,
        made_at -> Datetime,
        frozen -> Text,
        files -> Text,
    }
}

table! {
    edition_recordings (edition_id, recording) {
        edition_id -> Unsigned<BigInt>,
        recording -> Text,
    }
}

table! {
    kept (kind, name) {
        kind -> Text,
        name -> Text,
        said -> Text,
    }
}

table! {
    recordings (hash) {
        hash -> Text,
        rate_hz -> Unsigned<Integer>,
        channels -> Unsigned<SmallInt>,
        bits -> Unsigned<SmallInt>,
        frames -> Unsigned<BigInt>,
        noted_at -> Datetime,
    }
}

table! {
    takes (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        pass -> Unsigned<BigInt>,
        rung_key -> Unsigned<TinyInt>,
        layer -> Unsigned<BigInt>,
        round_robin -> Unsigned<SmallInt>,
        recording -> Text,
        first_frame -> Unsigned<BigInt>,
        frames -> Unsigned<BigInt>,
        made_at -> Datetime,
        thumbnail -> Nullable<Blob>,
        origin -> Nullable<Text>,
        spool -> Nullable<Text>,
    }
}

table! {
    long_takes (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        name -> Text,
        recording -> Text,
        made_at -> Datetime,
        spool -> Nullable<Text>,
        broken_off -> Bool,
    }
}

table! {
    waiting_files (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        name -> Text,
        recording -> Text,
        heard -> Text,
    }
}

table! {
    patterns (id) {
        id -> Unsigned<BigInt>,
        name -> Text,
        plan -> Text,
        held -> Nullable<Text>,
    }
}

table! {
    measurements (take_id, version) {
        take_id -> Unsigned<BigInt>,
        version -> Unsigned<Integer>,
        facts -> Text,
    }
}

table! {
    suggestions (take_id, version, kind, rung_key) {
        take_id -> Unsigned<BigInt>,
        version -> Unsigned<Integer>,
        kind -> Text,
        rung_key -> Unsigned<TinyInt>,
        suggestion -> Text,
    }
}

table! {
    cleaned_levels (take_id, name) {
        take_id -> Unsigned<BigInt>,
        name -> Text,
        levels -> Text,
    }
}

table! {
    heard (instrument_id, name) {
        instrument_id -> Unsigned<BigInt>,
        name -> Text,
        facts -> Text,
    }
}

table! {
    judged_loops (take_id, name) {
        take_id -> Unsigned<BigInt>,
        name -> Text,
        facts -> Text,
    }
}

table! {
    facts (instrument_id, about, target, part, fact) {
        instrument_id -> Unsigned<BigInt>,
        about -> Text,
        target -> Unsigned<BigInt>,
        part -> Unsigned<BigInt>,
        fact -> Text,
        value -> Text,
    }
}

table! {
    changes (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        label -> Text,
        fields -> Text,
        state -> Unsigned<TinyInt>,
        made_at -> Datetime,
    }
}

table! {
    runs (instrument_id) {
        instrument_id -> Unsigned<BigInt>,
        settings -> Text,
        holder -> Text,
        lease_until -> Nullable<Datetime>,
        goes_on -> Text,
    }
}

table! {
    jobs (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        kind -> Text,
        input -> Text,
        state -> Text,
        holder -> Text,
        lease_until -> Nullable<Datetime>,
        share -> Double,
        result -> Nullable<Text>,
        error -> Nullable<Text>,
        tries -> Unsigned<Integer>,
        not_before -> Nullable<Datetime>,
        ended_at -> Nullable<Datetime>,
    }
}

table! {
    events (id) {
        id -> Unsigned<BigInt>,
        instrument_id -> Unsigned<BigInt>,
        kind -> Text,
        body -> Text,
    }
}

table! {
    event_order (one) {
        one -> Unsigned<TinyInt>,
        last -> Unsigned<BigInt>,
    }
}

table! {
    looked (instrument_id) {
        instrument_id -> Unsigned<BigInt>,
        wrong -> Unsigned<Integer>,
        look -> Unsigned<Integer>,
    }
}

table! {
    sound_checks (instrument_id) {
        instrument_id -> Unsigned<BigInt>,
        sound_check -> Text,
    }
}

allow_tables_to_appear_in_same_query!(
    takes,
    recordings,
    measurements,
    suggestions,
    cleaned_levels,
    heard,
    looked,
    judged_loops,
    instruments,
    facts,
    changes,
    runs,
    jobs,
    events,
    long_takes,
    waiting_files,
    patterns,
    editions,
    edition_recordings,
    sound_checks
);
