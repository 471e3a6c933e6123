//! What is wrong with single takes.

use crate::Heard;
use crate::mends::{of_take, tenth};
use instrument::{
    Fact, Finding, FindingKind, MiddleC, Missing, Resolved, ResolvedTake, TakeLoop, Target, Treatment,
    key_name,
};
use program::SoundsOn;
use serde_json::{Value, json};
use signal::{Measurement, TakeSound};

/// A sound is begun so long before it is heard: as it is suggested.
const ROOM_MS: f64 = 2.0;
/// An octave is one within so many cents.
const NEAR_OCTAVE_CENTS: f64 = 60.0;
/// A pitch that is less sure contradicts nothing.
const SURE: f64 = 0.5;
/// Hiss is lowered by so much more than its limit wants, and never by more than that: common practice, more is heard as a veil.
const HISS_MORE_DB: f64 = 6.0;
const MOST_HISS_DB: f64 = 24.0;

/// Of every chosen take that is measured.
pub(crate) fn found(resolved: &Resolved, heard: &Heard) -> Vec<Finding> {
    let loudest = loudest_dbfs(resolved);
    let chosen = resolved.takes.iter().filter(|take| take.chosen);
    let mut all = Vec::new();
    for take in chosen {
        let one = One {
            resolved,
            take,
            loudest,
        };
        let mut found = one.told();
        if let (Some(facts), Some(treatment)) = (&take.facts, &take.treatment) {
            found.extend(one.measured(facts, treatment));
            if let Some(sound) = heard.takes.get(&take.recorded.id) {
                found.extend(one.heard(facts, treatment, sound));
            }
        }
        all.extend(found.into_iter().map(|finding| {
            let about = Target::Take(take.recorded.id);
            finding.about(about).on(take.recorded.cell)
        }));
    }
    all
}

/// The highest sample of all chosen takes, gains included: what lies beneath is measured from there, since a soft note is heard beside a loud one.
fn loudest_dbfs(resolved: &Resolved) -> f64 {
    let peaks = resolved
        .takes
        .iter()
        .filter(|take| take.chosen)
        .filter_map(|take| {
            let gain_db = take.treatment.as_ref()?.gain_db;
            Some(take.levels?.peak_dbfs? + gain_db)
        });
    peaks.fold(f64::NEG_INFINITY, f64::max)
}

struct One<'a> {
    resolved: &'a Resolved,
    take: &'a ResolvedTake,
    loudest: f64,
}

impl One<'_> {
    fn mend(
        &self,
        label: &str,
        changes: impl Into<String>,
        facts: Vec<(Fact, Option<Value>)>,
    ) -> Option<instrument::Mend> {
        Some(of_take(self.take, label, changes, facts))
    }

    /// What was told of it the moment it ended, as far as nothing later tells better.
    fn told(&self) -> Vec<Finding> {
        let measured = self.take.facts.is_some();
        let kept = |finding: &&Finding| {
            let later = matches!(
                finding.kind,
                FindingKind::WrongNote
                    | FindingKind::WrongOctave
                    | FindingKind::NoNote
                    | FindingKind::Clipped
                    | FindingKind::AnotherSound
            );
            !(later && measured)
        };
        let verdict = self.take.recorded.origin.verdict.as_ref();
        let told = verdict.map_or(&[][..], |verdict| &verdict.findings);
        let better = self.better_take();
        told.iter()
            .filter(kept)
            .map(|finding| finding.clone().mended_by(better.clone()))
            .collect()
    }

    /// Another take of its cell with which nothing is wrong as far as is known, where something is with this one: nothing was told of it, or, where nobody
    /// looked as it ended, it sounds and is not clipped.
    fn better_take(&self) -> Option<instrument::Mend> {
        let cell = self.take.recorded.cell;
        let is_whole = |facts: &Measurement| facts.peak_dbfs.is_some() && facts.clipped_frames == 0;
        let is_good = |take: &&ResolvedTake| {
            let told = take.recorded.origin.verdict.as_ref();
            let is_good = told.map(instrument::Verdict::is_good);
            let measured = take.facts.as_ref().is_some_and(is_whole);
            take.recorded.cell == cell && !take.chosen && is_good.unwrap_or(measured)
        };
        let better = self.resolved.takes.iter().rfind(is_good)?;
        let mut mend = of_take(
            better,
            "Use the better take",
            format!("Take {} is played in its place.", better.recorded.id),
            vec![(Fact::Chosen, Some(true.into()))],
        );
        let this = of_take(self.take, "", "", vec![(Fact::Chosen, Some(false.into()))]);
        mend.wishes.extend(this.wishes);
        Some(mend)
    }

    fn sounds_on_key_down(&self) -> bool {
        let pass = self.resolved.plan.pass(self.take.recorded.cell.pass);
        pass.is_some_and(|pass| pass.sounds_on == SoundsOn::KeyDown)
    }

    fn ms(&self, frames: f64) -> f64 {
        frames * 1_000.0 / f64::from(self.take.recorded.rate_hz)
    }

    fn measured(&self, facts: &Measurement, treatment: &Treatment) -> Vec<Finding> {
        let mut found = Vec::new();
        if facts.peak_dbfs.is_none() {
            let silent = Finding::so(FindingKind::Silent, "Every sample of it is 0.");
            found.push(silent.mended_by(self.better_take()));
            return found;
        }
        if facts.clipped_frames > 0 {
            found.push(Finding::clipped(facts.clipped_frames).mended_by(self.better_take()));
        }
        found.extend(self.missing());
        found.extend(self.pitch(facts, treatment));
        found.extend(self.looped(facts, treatment));
        found
    }

    fn missing(&self) -> Vec<Finding> {
        let finding = |missing: &Missing| match missing {
            Missing::Pitch => Some(Finding::no_note()),
            Missing::Loop => Some(Finding::so(
                FindingKind::NoLoop,
                "No place in it is worth looping: give it one by hand, or say that it has none.",
            )),
            Missing::LoopLength => Some(Finding::so(
                FindingKind::LoopStandsStill,
                "It stands still in so short a loop.",
            )),
            // Heard, see below.
            Missing::End => None,
        };
        self.take.missing.iter().filter_map(finding).collect()
    }

    /// How far what is set lies from what is heard.
    fn pitch(&self, facts: &Measurement, treatment: &Treatment) -> Vec<Finding> {
        let said = &self.take.correction;
        let Some(pitch) = facts.pitch.filter(|pitch| pitch.confidence >= SURE) else {
            return Vec::new();
        };
        let pitched = self.resolved.plan.kind_of(self.take.recorded.cell.pass).pitched();
        if !pitched || said.no_pitch || !self.sounds_on_key_down() {
            return Vec::new();
        }
        let heard = f64::from(pitch.key) * 100.0 + pitch.cents;
        let held = self
            .take
            .seam
            .and_then(|seam| seam.held_cents)
            .filter(|cents| cents.abs() < 60.0);
        let is_set = f64::from(treatment.root_key) * 100.0 + treatment.recording_cents - held.unwrap_or(0.0);
        let off = is_set - heard;
        let octaves = (off / 1_200.0).round();
        let name = |key| key_name(key, MiddleC::C4);
        let back = || {
            self.mend(
                "Take what is heard",
                format!("Its root becomes {}, as it is heard.", name(pitch.key)),
                vec![
                    (Fact::RootKey, Some(pitch.key.into())),
                    (
                        Fact::RecordingCents,
                        Some(json!((pitch.cents * 100.0).round() / 100.0)),
                    ),
                ],
            )
        };
        let mut found = Vec::new();
        if octaves != 0.0 && (off - octaves * 1_200.0).abs() <= NEAR_OCTAVE_CENTS {
            let says = format!(
                "Its root says {}, heard is {}.",
                name(treatment.root_key),
                name(pitch.key)
            );
            found.push(Finding::so(FindingKind::WrongOctave, says).mended_by(back()));
        } else if off.abs() > NEAR_OCTAVE_CENTS {
            let says = format!(
                "Its root says {}, heard is {}.",
                name(treatment.root_key),
                name(pitch.key)
            );
            found.push(Finding::measured(FindingKind::RootDiffers, off, says).mended_by(back()));
        } else {
            // As it plays: what is added on playing, from the ladder's own curve where it is kept.
            let plays = -off + treatment.tune_cents;
            let curve = self.take.curve_cents.unwrap_or(0.0);
            let off = if (plays - curve).abs() < plays.abs() {
                plays - curve
            } else {
                plays
            };
            let says = format!("It plays {} cents off its key.", tenth(off));
            // What a hand set of the recording goes back; else what is added on playing goes to the ladder's own.
            let by_hand = said.recording_cents.is_some() || said.root_key.is_some();
            let tuned = if by_hand {
                let back = vec![(Fact::RecordingCents, None), (Fact::RootKey, None)];
                self.mend("Tune it", "Its root and cents are those that are heard.", back)
            } else {
                let cents = ((treatment.tune_cents - off) * 100.0).round() / 100.0;
                let added = vec![(Fact::TuneCents, Some(json!(cents)))];
                self.mend(
                    "Tune it",
                    format!("{} cents are added on playing.", tenth(cents)),
                    added,
                )
            };
            found.push(Finding::measured(FindingKind::OffPitch, off, says).mended_by(tuned));
        }
        let cell = f64::from(self.take.recorded.cell.key) * 100.0;
        if (heard - cell).abs() > NEAR_OCTAVE_CENTS {
            found.push(Finding::another_note(
                pitch.key,
                self.take.recorded.cell.key,
                heard - cell,
            ));
        }
        found
    }

    fn looped(&self, facts: &Measurement, treatment: &Treatment) -> Vec<Finding> {
        let Some(looped) = treatment.looped else {
            return Vec::new();
        };
        let mut found = Vec::new();
        if let Some(seam) = self.take.seam {
            if let Some(db) = seam.audible_db {
                let says = format!("Its seam stands {} dB out of the sound.", tenth(db));
                let best = self.best_place(facts, looped, db);
                found.push(Finding::measured(FindingKind::SeamStandsOut, db.max(0.0), says).mended_by(best));
            }
            let says = format!(
                "Its level moves by {} dB from its start to its end.",
                tenth(seam.drift_db)
            );
            found.push(
                Finding::measured(FindingKind::LoopDrifts, seam.drift_db.abs(), says)
                    .mended_by(self.held_level()),
            );
        }
        let long_ms = self.ms((looped.end_frame - looped.start_frame) as f64);
        // One period of a wave is no buzz: it is the wave.
        let periods = facts.pitch.map_or(0.0, |pitch| long_ms / 1_000.0 * pitch.hz);
        if periods > 1.5 {
            let says = format!("It is {long_ms:.0} ms long.");
            found.push(Finding::measured(FindingKind::LoopBuzzes, long_ms, says));
        }
        found
    }

    fn held_level(&self) -> Option<instrument::Mend> {
        self.mend(
            "Hold its level",
            "Level and colour are evened over the loop.",
            vec![(Fact::Evening, Some(json!({ "share": 1.0 })))],
        )
    }

    /// The quietest place that measuring found, where it is quieter than the one that is set.
    fn best_place(&self, facts: &Measurement, looped: TakeLoop, db: f64) -> Option<instrument::Mend> {
        let place = (facts.loops.iter())
            .filter(|place| TakeLoop::found(place) != looped)
            .filter_map(|place| Some((place, place.audible_db?)))
            .min_by(|a, b| a.1.total_cmp(&b.1))
            .filter(|(_, quieter)| *quieter < db - 0.2 && *quieter <= FindingKind::SeamStandsOut.limit())?;
        let value = serde_json::to_value(TakeLoop::found(place.0)).ok()?;
        self.mend(
            "Use the best place",
            format!(
                "The loop goes where its seam stands out by {} dB.",
                tenth(place.1)
            ),
            vec![(Fact::Loop, Some(value))],
        )
    }

    fn heard(&self, facts: &Measurement, treatment: &Treatment, sound: &TakeSound) -> Vec<Finding> {
        let mut found = self.ends(facts, treatment, sound);
        found.extend(self.beneath(facts, treatment, sound));
        if let Some(other) = sound.another_sound {
            let after_s = self.ms(other.frame.saturating_sub(facts.start_frame) as f64) / 1_000.0;
            found.push(Finding {
                at_frame: Some(other.frame as u64),
                ..Finding::another_sound(after_s, other.db)
            });
        }
        if facts.clipped_frames == 0 {
            let says = format!("{} of its frames lie in flat tops.", sound.flat_frames);
            found.push(Finding::measured(
                FindingKind::FlatTopped,
                sound.flat_frames as f64,
                says,
            ));
        }
        found.extend(self.dead_side(sound));
        found
    }

    fn ends(&self, facts: &Measurement, treatment: &Treatment, sound: &TakeSound) -> Vec<Finding> {
        let mut found = Vec::new();
        let room = (ROOM_MS / 1_000.0 * f64::from(self.take.recorded.rate_hz)) as u64;
        let before = (facts.start_frame as u64).saturating_sub(room);
        let begin = |label| {
            self.mend(
                label,
                "It begins a hair before its sound, as it is suggested.",
                vec![(Fact::StartFrame, Some(before.into()))],
            )
        };
        if self.sounds_on_key_down() {
            let says = format!("It is heard {:.0} ms late.", sound.silence_ms);
            found.push(
                Finding::measured(FindingKind::SilenceFirst, sound.silence_ms, says)
                    .mended_by(begin("Begin at the sound")),
            );
        }
        if let Some(db) = sound.cut_db.filter(|_| self.sounds_on_key_down()) {
            let says = format!("What is left out lies {} dB under what follows.", tenth(-db));
            let can = (before < treatment.start_frame)
                .then(|| begin("Begin before it"))
                .flatten();
            found.push(Finding::measured(FindingKind::AttackCut, db, says).mended_by(can));
        }
        let faded = || {
            self.mend(
                "Fade it",
                "Its fades become those that are suggested.",
                vec![(Fact::FadeInFrames, None), (Fact::FadeOutFrames, None)],
            )
        };
        if let Some(db) = sound.first_step_db {
            let says = format!("It begins with a step, {} dB under its loudest.", tenth(-db));
            found.push(Finding::measured(FindingKind::PopAtStart, db, says).mended_by(faded()));
        }
        if let Some(db) = sound.last_step_db {
            let says = format!(
                "It ends with a step or a pop, {} dB under its loudest.",
                tenth(-db)
            );
            let short = self.take.correction.fade_out_frames.is_some();
            found.push(
                Finding::measured(FindingKind::PopAtEnd, db, says).mended_by(short.then(faded).flatten()),
            );
        }
        if let Some(db) = sound.tail_db.filter(|_| self.sounds_on_key_down()) {
            let says = format!("It ends {} dB under its loudest.", tenth(-db));
            found.push(Finding::measured(FindingKind::TailCut, db, says));
        }
        found
    }

    fn beneath(&self, facts: &Measurement, treatment: &Treatment, sound: &TakeSound) -> Vec<Finding> {
        let under = |dbfs: f64| dbfs + treatment.gain_db - self.loudest;
        let cleaning = &treatment.cleaning;
        let mut found = Vec::new();
        if let Some(dbfs) = sound.dc_dbfs {
            let says = format!("Its mean lies at {} dBFS.", tenth(dbfs));
            let out = (!cleaning.remove_dc)
                .then(|| {
                    let remove = vec![(Fact::RemoveDc, Some(true.into()))];
                    self.mend("Take it out", "Its mean is taken out.", remove)
                })
                .flatten();
            found.push(Finding::measured(FindingKind::Dc, dbfs, says).mended_by(out));
        }
        if let Some((mains, dbfs)) = sound.hum {
            let db = under(dbfs);
            let says = format!(
                "{mains:.0} Hz and its partials, {} dB under the loudest.",
                tenth(-db)
            );
            let notched = (cleaning.hum.is_none())
                .then(|| {
                    let notch = vec![(Fact::Hum, Some(json!({ "hz": mains })))];
                    self.mend("Notch it", "The mains and its partials are notched out.", notch)
                })
                .flatten();
            found.push(Finding::measured(FindingKind::Hum, db, says).mended_by(notched));
        }
        if let Some(dbfs) = sound.hiss_dbfs {
            let db = under(dbfs);
            let says = format!("Noise {} dB under the loudest.", tenth(-db));
            let lowered = (cleaning.hiss.is_none())
                .then(|| {
                    let over = db - FindingKind::Hiss.limit();
                    let by = (over + HISS_MORE_DB).clamp(HISS_MORE_DB, MOST_HISS_DB).round();
                    let hiss = vec![(Fact::Hiss, Some(json!({ "reduction_db": by })))];
                    self.mend("Lower it", format!("Its noise is lowered by {by:.0} dB."), hiss)
                })
                .flatten();
            found.push(Finding::measured(FindingKind::Hiss, db, says).mended_by(lowered));
        }
        if let Some(dbfs) = sound.rumble_dbfs {
            let db = under(dbfs);
            let says = format!("Below its lowest partial, {} dB under the loudest.", tenth(-db));
            let cutoff = facts
                .pitch
                .map_or(30.0, |pitch| (pitch.hz * 0.7).clamp(16.0, 40.0));
            let cut = (cleaning.high_pass.is_none())
                .then(|| {
                    let high_pass = json!({ "hz": cutoff.round(), "db_per_octave": 24 });
                    self.mend(
                        "Cut it",
                        format!("A high-pass at {cutoff:.0} Hz, 24 dB an octave."),
                        vec![(Fact::HighPass, Some(high_pass))],
                    )
                })
                .flatten();
            found.push(Finding::measured(FindingKind::Rumble, db, says).mended_by(cut));
        }
        if let Some(dbfs) = sound.before_dbfs {
            let own = sound.peak_dbfs.unwrap_or(0.0);
            let says = format!("It rings {} dB under this one.", tenth(own - dbfs));
            found.push(Finding::measured(FindingKind::NoteBefore, dbfs - own, says));
        }
        found
    }

    fn dead_side(&self, sound: &TakeSound) -> Option<Finding> {
        let levels = self.take.levels.filter(|_| sound.dead_side)?;
        let left = levels.balance_db.is_none_or(|db| db > 0.0);
        let side = if left { "left" } else { "right" };
        let says = format!("Only its {side} side sounds.");
        let mono = self.mend(
            "Use the side that sounds",
            format!("It is played from its {side} side alone."),
            vec![(Fact::Channels, Some(json!({ "sides": side, "width": 1.0 })))],
        );
        Some(Finding::so(FindingKind::DeadSide, says).mended_by(mono))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{plan, resolved, take};

    /// Takes of one cell, oldest first: clipped ones where `clipped`.
    fn takes(clipped: &[bool]) -> Resolved {
        let cell = plan().cells()[0];
        let one = |(n, clipped): (usize, &bool)| {
            // A wave that is cut at full scale, or stays under it.
            let gain = if *clipped { 2.0 } else { 0.5 };
            let wave = |n: usize| (n as f32 * 220.0 / 48_000.0 * std::f32::consts::TAU).sin();
            take(n as u64 + 1, cell, |n| (wave(n) * gain).clamp(-1.0, 1.0))
        };
        resolved(clipped.iter().enumerate().map(one).collect())
    }

    #[test]
    fn a_clipped_take_gives_way_to_a_better_one_of_its_cell() {
        let clipped = |of: &Resolved| {
            let found = found(of, &Heard::default());
            found.into_iter().find(|found| found.kind == FindingKind::Clipped)
        };
        // The newest is used.
        assert_eq!(clipped(&takes(&[true, false])), None);
        let alone = clipped(&takes(&[true, true])).expect("a clipped take");
        assert_eq!(alone.mend, None);
        let better = clipped(&takes(&[false, true])).expect("a clipped take");
        let wishes = better.mend.expect("a better take").wishes;
        let said: Vec<_> = wishes.iter().map(|wish| (wish.target, wish.fact)).collect();
        assert_eq!(
            said,
            [(Target::Take(1), Fact::Chosen), (Target::Take(2), Fact::Chosen)]
        );
    }
}
