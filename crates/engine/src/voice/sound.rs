//! A voice's sound: what it reads of its sample, filtered, as loud as it is to be.

use super::plan::{Step, Steps};
use super::{Audio, QUICK_MS, Voice, WAITS_MS};
use crate::drive::Around;
use crate::interpolate::{Place, Set, WIDEST_HALF};
use crate::reader::Reader;
use crate::slabs::Slabs;
use crate::{Interpolator, STEP_FRAMES};
use program::Program;

impl Voice {
    /// Adds what it sounds; whether it ran out of audio now, and fades.
    pub(crate) fn render(
        &mut self,
        slabs: &mut Slabs,
        interpolator: &Interpolator,
        around: &Around,
        left: &mut [f32],
        right: &mut [f32],
    ) -> bool {
        let (drive, was) = (self.drive, (self.gains, self.ratio));
        let mut steps = Steps::default();
        let count = self.plan(around, left.len(), &mut steps);
        let steps = &steps[..count];
        let fastest = steps.iter().map(|step| step.ratio).fold(self.ratio, f64::max);
        let reader = interpolator.at(fastest);
        self.go_round();
        let mut ran_out = false;
        // A fade needs audio too.
        let ahead = fastest / self.ratio * (left.len() as f64 + QUICK_MS / 1000.0 * self.rate_hz);
        match self.audio {
            Audio::RanOut => {}
            Audio::Plays => {
                if !self.has_audio(slabs, reader.half(), ahead) {
                    self.audio = Audio::RanOut;
                    self.cut_off(QUICK_MS);
                    ran_out = true;
                }
            }
            Audio::Waits(frames) if !self.has_audio(slabs, reader.half(), ahead) => {
                let frames = frames + left.len() as u32;
                self.audio = Audio::Waits(frames);
                // It has not begun.
                (self.drive, (self.gains, self.ratio)) = (drive, was);
                let too_long = f64::from(frames) > WAITS_MS / 1000.0 * self.rate_hz;
                if too_long {
                    self.stop();
                }
                return too_long;
            }
            Audio::Waits(_) => self.audio = Audio::Plays,
        }
        let span = libm::ceil(left.len() as f64 * fastest) as u64;
        self.course(reader.half())
            .make_seam(slabs, self.position as u64, span);
        let audio = Reader::new(slabs, self.stretch.sample);
        let seam = Reader::new(slabs, self.stretch.seam);
        let (mut own_left, mut own_right) = ([0.0; STEP_FRAMES], [0.0; STEP_FRAMES]);
        let mut first = 0;
        for step in steps {
            if self.is_unheard(step) {
                self.pass_over(step);
                if !self.is_active() {
                    break;
                }
                first += step.frames;
                continue;
            }
            let range = first..first + step.frames;
            let (l, r) = (&mut own_left[range.clone()], &mut own_right[range.clone()]);
            let read = self.read((&audio, &seam), reader, step, l, r);
            self.filter(around.program, step, l, r);
            self.sound(step, read, (l, r), (&mut left[range.clone()], &mut right[range]));
            if read < step.frames {
                self.stop();
            }
            if !self.is_active() {
                break;
            }
            first += step.frames;
        }
        ran_out
    }

    /// Whether nothing of a step would be heard: a crossfade has it at nothing.
    fn is_unheard(&self, step: &Step) -> bool {
        let silent = |gains: (f32, f32)| gains == (0.0, 0.0);
        silent(self.gains) && silent(step.gains)
    }

    /// Goes on by a step without computing its sound.
    fn pass_over(&mut self, step: &Step) {
        let frames = step.frames as f64;
        // As far as reading would have gone, from the one speed to the other by as much a frame.
        self.position += frames * self.ratio + (step.ratio - self.ratio) * (frames - 1.0) / 2.0;
        self.ratio = step.ratio;
        self.cutoff = (step.cutoff_hz, step.resonance_db);
        self.envelope.fill(&mut [0.0; STEP_FRAMES][..step.frames]);
        self.go_round();
        let heard = self.position as u64;
        if self.loop_now().map_or(heard, |looped| looped.frame_at(heard)) >= self.stretch.end_frame {
            self.stop();
        }
    }

    /// Reads the frames of a step as they are recorded; how many there are.
    fn read(
        &mut self,
        (audio, seam): (&Reader, &Reader),
        reader: &Set,
        step: &Step,
        left: &mut [f32],
        right: &mut [f32],
    ) -> usize {
        // By as much a frame, it gets from the one speed to the other.
        let steeper = (step.ratio - self.ratio) / left.len().max(1) as f64;
        let fastest = self.ratio.max(step.ratio);
        let mut done = 0;
        while done < left.len() {
            let course = self.course(reader.half());
            let rest = (&mut left[done..], &mut right[done..]);
            let read = match course.plain_run(self.position, fastest) {
                0 => match course.seam_run(self.position, fastest) {
                    Some((base, run)) if run > 0 => {
                        self.read_plain((seam, base), (reader, steeper), run, rest)
                    }
                    _ => 0,
                },
                run => self.read_plain((audio, 0), (reader, steeper), run, rest),
            };
            done += match read {
                0 if self.read_one(audio, reader, &mut left[done], &mut right[done]) => {
                    self.ratio += steeper;
                    1
                }
                0 => break,
                read => read,
            };
        }
        self.ratio = step.ratio;
        done
    }

    /// Reads at most so many frames that are heard as they lie, in slabs that count from a frame; how many, to the end of a slab.
    fn read_plain(
        &mut self,
        (audio, base): (&Reader, u64),
        (reader, steeper): (&Set, f64),
        run: usize,
        (left, right): (&mut [f32], &mut [f32]),
    ) -> usize {
        let half = reader.half();
        let first = self.position as u64 + 1 - half as u64;
        let Some(one) = audio.run(0, first - base) else {
            return 0;
        };
        let other = if self.stretch.channels > 1 {
            audio.run(1, first - base)
        } else {
            None
        };
        // What is read around a place begins so many frames before it.
        let before = (first + half as u64 - 1) as f64;
        let mut place = Place {
            position: self.position - before,
            ratio: self.ratio,
            steeper,
        };
        let run = run.min(left.len());
        let read = reader.read((one, other), &mut place, (&mut left[..run], &mut right[..run]));
        (self.position, self.ratio) = (place.position + before, place.ratio);
        read
    }

    /// Reads one frame, wherever it lies; whether there is one.
    fn read_one(&mut self, audio: &Reader, reader: &Set, left: &mut f32, right: &mut f32) -> bool {
        self.go_round();
        let course = self.course(reader.half());
        let frame = self.position as u64;
        let heard = course.looped.map_or(frame, |l| l.frame_at(frame));
        if heard >= self.stretch.end_frame {
            return false;
        }
        let fade = self.stretch.fade(heard, course.looped.is_some());
        let fraction = self.position - frame as f64;
        let mut windows = [[0.0f32; 2 * WIDEST_HALF]; 2];
        let mut values = [0.0f32; 2];
        for (channel, (value, window)) in values.iter_mut().zip(&mut windows).enumerate() {
            if channel < usize::from(self.stretch.channels) {
                *value = reader.value(fraction, course.taps(audio, channel as u8, frame, window));
            }
        }
        if self.stretch.channels == 1 {
            values[1] = values[0];
        }
        (*left, *right) = (values[0] * fade, values[1] * fade);
        self.position += self.ratio;
        true
    }

    /// Filters what was read; where the filter is another than a moment ago, the one fades into the other.
    fn filter(&mut self, program: &Program, step: &Step, left: &mut [f32], right: &mut [f32]) {
        let filter = match self.region {
            Some(_) => {
                (self.shape.and_then(|place| program.shapes.get(place))).and_then(|shape| shape.filter)
            }
            // What is gone from the program fades as it was.
            None => self.filter.map(|(_, filter)| filter),
        };
        if filter.is_none() && self.filter.is_none() && self.filter_before.is_none() {
            return;
        }
        let mut before = self.filter_before.take().map(|before| {
            let (mut l, mut r) = ([0.0; STEP_FRAMES], [0.0; STEP_FRAMES]);
            l[..left.len()].copy_from_slice(left);
            r[..right.len()].copy_from_slice(right);
            (before, l, r)
        });
        let was = std::mem::replace(&mut self.cutoff, (step.cutoff_hz, step.resonance_db));
        self.filter = filter.map(|filter| {
            let kept = self.filter.map(|(kept, _)| kept);
            let mut voice = kept.unwrap_or_else(|| self.filter_at(&filter, step));
            voice.follow(&filter);
            voice.run(
                (&filter, step.cutoff_hz, step.resonance_db),
                self.rate_hz,
                left,
                right,
            );
            (voice, filter)
        });
        let Some((before, l, r)) = &mut before else {
            return;
        };
        let count = left.len();
        let (l, r) = (&mut l[..count], &mut r[..count]);
        if let Some((voice, filter)) = before {
            voice.run((filter, was.0, was.1), self.rate_hz, l, r);
        }
        for n in 0..count {
            let share = (n as f32 + 1.0) / count as f32;
            left[n] = l[n] + (left[n] - l[n]) * share;
            right[n] = r[n] + (right[n] - r[n]) * share;
        }
    }

    /// Adds what was read, as loud as it is to be.
    fn sound(
        &mut self,
        step: &Step,
        read: usize,
        (own_left, own_right): (&[f32], &[f32]),
        (left, right): (&mut [f32], &mut [f32]),
    ) {
        let share = 1.0 / left.len().max(1) as f32;
        let (own_left, own_right) = (&own_left[..read], &own_right[..read]);
        let mut levels = [0.0; STEP_FRAMES];
        self.envelope.fill(&mut levels[..read]);
        let sides = [
            (own_left, left, self.gains.0, step.gains.0),
            (own_right, right, self.gains.1, step.gains.1),
        ];
        for (own, out, from, to) in sides {
            let by = (to - from) * share;
            let frames = out.iter_mut().zip(own).zip(&levels);
            if by == 0.0 {
                frames.for_each(|((out, own), level)| *out += own * level * from);
            } else {
                for (n, ((out, own), level)) in (0u16..).zip(frames) {
                    *out += own * level * (from + by * f32::from(n));
                }
            }
        }
        self.gains = step.gains;
    }
}
