//! What a format cannot hold, in sentences, and which strands and regions are left out for it.

use crate::driven::{Lost, lower_driving};
use crate::{AudioForm, Format, Loss, SOUNDFONT_MOST_HZ};
use program::{
    Among, BEND_KEYS, BusId, Cut, GoesFirst, On, Program, Region, SameKey, Source, Span, Standing, Strand,
    StrandId, Turn, Voices, When, Within, cut_of,
};
use std::collections::BTreeSet;

/// What of a program a format can hold.
pub(crate) struct Holds<'a> {
    program: &'a Program,
    format: Format,
    form: AudioForm,
    at_first: Standing,
    /// Strands of which something stands where its controls stand at first.
    still: &'a BTreeSet<StrandId>,
    /// Of each shape of the program.
    lost: Vec<Lost>,
}

impl<'a> Holds<'a> {
    pub(crate) fn of(
        program: &'a Program,
        format: Format,
        form: AudioForm,
        still: &'a BTreeSet<StrandId>,
    ) -> Self {
        Self {
            program,
            format,
            form,
            at_first: Standing::of(program),
            still,
            lost: (program.shapes.iter())
                .map(|shape| lower_driving(program, shape, format).1)
                .collect(),
        }
    }

    fn is_soundfont(&self) -> bool {
        self.format == Format::SoundFont2
    }

    /// Whether a strand is written.
    pub(crate) fn strand(&self, strand: &Strand) -> bool {
        if self.format == Format::Page {
            return !strand.muted;
        }
        let event = match strand.on {
            On::KeyDown(Among::Any | Among::First) => true,
            On::KeyDown(Among::Legato) | On::KeyUp { .. } => !self.is_soundfont(),
            On::Enters(within) => !self.is_soundfont() && is_controller(&within),
        };
        !strand.muted && event
    }

    /// Whether a region is.
    pub(crate) fn region(&self, region: &Region) -> bool {
        self.has_strand(region) && (!self.is_soundfont() || !(self.waits(region) || self.is_unchosen(region)))
    }

    /// Whether a SoundFont can end a sound in this way: by what is of the same class.
    pub(crate) fn class_holds(cut: Cut) -> bool {
        cut == Cut::default()
            || (cut.group == cut.by && cut.group.is_some_and(|group| (1..128).contains(&group)))
    }

    /// Both that its strand asks for and what it asks for itself.
    fn whens<'r>(&'r self, region: &'r Region) -> impl Iterator<Item = &'r When> {
        let of_strand = self.program.strand_of(region).map(|strand| &strand.when);
        of_strand.into_iter().chain([&region.when])
    }

    /// Whether another sounds before it, in turn.
    fn waits(&self, region: &Region) -> bool {
        let strand = self.program.strand_of(region);
        region.when.turn.follows_another() || strand.is_some_and(|strand| strand.when.turn.follows_another())
    }

    /// Whether it is silent where controllers and switches stand at first.
    fn is_unchosen(&self, region: &Region) -> bool {
        let strand = self.program.strand_of(region);
        let of = |when: &When| {
            let chosen = (when.chosen_by.as_ref()).is_none_or(|by| self.at_first.is_chosen(self.program, by));
            !chosen || self.at_first.gain(&when.sources) == 0.0
        };
        of(&region.when) || strand.is_some_and(|strand| of(&strand.when))
    }

    fn is_muted(&self, region: &Region) -> bool {
        self.program.strand_of(region).is_some_and(|strand| strand.muted)
    }

    /// Whether its strand is heard, and sounds on such an event.
    fn is_on(&self, region: &Region, test: fn(&On) -> bool) -> bool {
        let strand = self.program.strand_of(region);
        strand.is_some_and(|strand| !strand.muted && test(&strand.on))
    }

    /// Whether its strand is written.
    fn has_strand(&self, region: &Region) -> bool {
        self.program
            .strand_of(region)
            .is_some_and(|strand| self.strand(strand))
    }

    /// Whether a region is written, and its shape loses such a thing.
    fn loses(&self, region: &Region, test: fn(&Lost) -> bool) -> bool {
        let place = self.program.shape_of_region(region);
        self.region(region) && place.is_some_and(|place| test(&self.lost[place]))
    }

    fn voices(&self, region: &Region, test: fn(&Voices) -> bool) -> bool {
        (self.program.strand_of(region)).is_some_and(|strand| test(&strand.voices))
    }

    /// Whether it is heard through effects: of its strand, of a row that this sends to, or of the whole.
    fn has_effects(&self, region: &Region) -> bool {
        let has = |id: BusId| {
            let bus = self.program.buses.iter().find(|bus| bus.id == id);
            bus.is_some_and(|bus| bus.effects.iter().any(|effect| effect.on))
        };
        let sends = |strand: &Strand| strand.sends.iter().any(|send| has(send.bus));
        self.region(region)
            && (has(BusId::WHOLE)
                || has(BusId::of_strand(region.key.strand))
                || self.program.strand_of(region).is_some_and(sends))
    }

    /// Whether something of it stands where its controls stand at first.
    fn is_still(&self, region: &Region) -> bool {
        self.region(region) && self.still.contains(&region.key.strand)
    }

    /// Whether its sample is written at another rate than it was asked for.
    fn is_too_fast(&self, region: &Region) -> bool {
        let sample = self.program.samples.get(region.sample);
        self.is_soundfont()
            && sample.is_some_and(|sample| self.form.rate_hz.unwrap_or(sample.rate_hz) > SOUNDFONT_MOST_HZ)
    }

    /// Whether its sample is written at a lower rate than it was recorded in.
    fn is_slowed(&self, region: &Region) -> bool {
        let sample = self.program.samples.get(region.sample);
        sample.is_some_and(|sample| self.form.rate_of(sample, self.format) < sample.rate_hz)
    }

    /// Whether two sides of its sample are made one.
    fn is_folded(&self, region: &Region) -> bool {
        let sample = self.program.samples.get(region.sample);
        self.form.one_side && sample.is_some_and(|sample| sample.channels > 1)
    }
}

/// A sentence, and the regions it is true of.
type Sentence = (&'static str, fn(&Holds<'_>, &Region) -> bool);

pub(crate) const KEY_UPS_ARE_LEFT_OUT: &str = "SoundFont has no key-up sounds: they are left out.";
pub(crate) const KEY_UPS_ARE_BESIDE: &str =
    "SoundFont has no key-up sounds: they are a preset beside, where keys that go down start them.";
pub(crate) const TURNS_ARE_LEFT_OUT: &str = "SoundFont has no round robins: the first of each is written.";
pub(crate) const TURNS_ARE_BESIDE: &str = "SoundFont has no round robins: the others are presets beside.";

/// What a SoundFont loses.
const OF_SOUNDFONT: &[Sentence] = &[
    ("Muted strands are left out.", |holds, region| {
        holds.is_muted(region)
    }),
    (
        "SoundFont has no effects of its own: these are left out.",
        |holds, region| holds.has_effects(region),
    ),
    (
        "SoundFont does not drive what these controls drive, or not from where they stand at first: there it stays.",
        |holds, region| holds.is_still(region),
    ),
    (KEY_UPS_ARE_LEFT_OUT, |holds, region| {
        holds.is_on(region, |on| on.is_key_up())
    }),
    (
        "SoundFont has no sounds of pedals: they are left out.",
        |holds, region| holds.is_on(region, |on| matches!(on, On::Enters(_))),
    ),
    (
        "SoundFont has no sounds for legato playing: they are left out.",
        |holds, region| holds.is_on(region, |on| *on == On::KeyDown(Among::Legato)),
    ),
    (
        "SoundFont does not know which key is the first: these sound on every key.",
        |holds, region| holds.is_on(region, |on| *on == On::KeyDown(Among::First)),
    ),
    (TURNS_ARE_LEFT_OUT, |holds, region| {
        holds.has_strand(region) && holds.waits(region)
    }),
    (
        "SoundFont has no controllers and no keys that choose: what sounds at first is written.",
        |holds, region| holds.has_strand(region) && holds.is_unchosen(region),
    ),
    (
        "SoundFont holds rates up to 50,000 Hz: these are written at 48,000 or 44,100 Hz.",
        |holds, region| holds.region(region) && holds.is_too_fast(region),
    ),
    (
        "A SoundFont is bent by two keys each way: these are bent by that.",
        |holds, region| {
            let bend = holds
                .program
                .strand_of(region)
                .and_then(|strand| strand.voices.bend);
            holds.region(region) && bend.is_some_and(|bend| bend != BEND_KEYS)
        },
    ),
    (
        "SoundFont has no pitch that falls as keys rise: it stays.",
        |holds, region| holds.region(region) && region.key_follow < 0.0,
    ),
    (
        "SoundFont has no crossfades between layers or keys: each begins in the middle of its crossfade.",
        |holds, region| holds.region(region) && holds.whens(region).any(fades),
    ),
    (
        "SoundFont has no sounds that play on after their key: they are given its longest release.",
        |holds, region| holds.region(region) && region.to_end,
    ),
    (
        "SoundFont ends a sound only by another of the same kind: these ring on.",
        |holds, region| {
            let cut = cut_of(holds.program, region);
            holds.region(region) && cut.by.is_some() && !Holds::class_holds(cut)
        },
    ),
    (
        "SoundFont does not fade what is cut off: it ends at once.",
        |holds, region| {
            let cut = cut_of(holds.program, region);
            holds.region(region) && cut.fade_ms > 0 && cut.by.is_some() && Holds::class_holds(cut)
        },
    ),
    (
        "SoundFont has one filter, a low-pass of two poles: others become that, or are left out.",
        |holds, region| holds.loses(region, |lost| lost.filter),
    ),
    (
        "SoundFont does not make up the level that a filter takes.",
        |holds, region| holds.loses(region, |lost| lost.makes_up),
    ),
    (
        "SoundFont does not drive what these are driven by or to: that is left out.",
        |holds, region| holds.loses(region, |lost| lost.routes),
    ),
    (
        "SoundFont has no drawn curves: they are straight.",
        |holds, region| holds.loses(region, |lost| lost.curves),
    ),
    (
        "SoundFont has loudness of straight parts alone: bends are left out.",
        |holds, region| holds.loses(region, |lost| lost.bends),
    ),
    (
        "SoundFont has one course beside loudness, for cutoff and pitch, of straight parts: what goes beyond is left out.",
        |holds, region| holds.loses(region, |lost| lost.courses),
    ),
    (
        "SoundFont has two slow movements, one of them for pitch alone: others are left out.",
        |holds, region| holds.loses(region, |lost| lost.movements),
    ),
    (
        "SoundFont's slow movements are triangles of each key's own that do not fade in: these become such.",
        |holds, region| holds.loses(region, |lost| lost.waves),
    ),
    (
        "These have words of an SFZ that Ladder does not know: they stay in an SFZ, and are left out here.",
        |holds, region| holds.region(region) && !region.foreign.is_empty(),
    ),
    (
        "SoundFont has no limit to voices, no one tone at a time and no glides: all keys sound.",
        |holds, region| {
            holds.region(region)
                && (holds.program.most_voices.is_some()
                    || holds.voices(region, |voices| {
                        voices.most.is_some() || voices.glide.is_some() || voices.same_key != SameKey::Rings
                    }))
        },
    ),
];

/// What the form of the audio loses.
const OF_FORM: &[Sentence] = &[
    (
        "What lies above half of the lower rate is left out.",
        |holds, region| holds.region(region) && holds.is_slowed(region) && !holds.is_too_fast(region),
    ),
    (
        "Two sides become one, their mean; what had one side comes down by 3 dB with them.",
        |holds, region| holds.region(region) && holds.is_folded(region),
    ),
];

/// What SFZ loses.
const OF_SFZ: &[Sentence] = &[
    ("Muted strands are left out.", |holds, region| {
        holds.is_muted(region)
    }),
    (
        "SFZ has no effects of its own: these are left out.",
        |holds, region| holds.has_effects(region),
    ),
    (
        "SFZ does not drive what these controls drive: it stays where it stands at first.",
        |holds, region| holds.is_still(region),
    ),
    (
        "SFZ has no turns at random that never come twice: these are written one after another.",
        |holds, region| {
            let shuffled = |when: &When| matches!(when.turn, Turn::Shuffled { .. });
            holds.region(region) && holds.whens(region).any(shuffled)
        },
    ),
    (
        "SFZ holds sounds of keys that come up back while the pedal is down.",
        |holds, region| {
            holds.region(region)
                && holds.is_on(region, |on| {
                    matches!(
                        on,
                        On::KeyUp {
                            pedal_holds: false,
                            ..
                        }
                    )
                })
        },
    ),
    (
        "SFZ ends what is cut off at once: it does not fade.",
        |holds, region| {
            let cut = cut_of(holds.program, region);
            holds.region(region) && cut.by.is_some() && cut.fade_ms > 0
        },
    ),
    (
        "SFZ has sounds of controllers alone: others are left out.",
        |holds, region| {
            holds.is_on(
                region,
                |on| matches!(on, On::Enters(within) if !is_controller(within)),
            )
        },
    ),
    (
        "SFZ knows no such source: these sound wherever it stands.",
        |holds, region| {
            holds.region(region)
                && !holds
                    .whens(region)
                    .all(|when| when.sources.iter().all(is_controller))
        },
    ),
    (
        "SFZ's band-passes and notches have two poles: those of four become such.",
        |holds, region| holds.loses(region, |lost| lost.filter),
    ),
    (
        "SFZ does not make up the level that a filter takes.",
        |holds, region| holds.loses(region, |lost| lost.makes_up),
    ),
    (
        "SFZ does not drive what these are driven by or to: that is left out.",
        |holds, region| holds.loses(region, |lost| lost.routes),
    ),
    (
        "SFZ has no curves between these: they are straight.",
        |holds, region| holds.loses(region, |lost| lost.curves),
    ),
    (
        "SFZ has loudness of straight parts alone: bends are left out.",
        |holds, region| holds.loses(region, |lost| lost.bends),
    ),
    (
        "SFZ has courses for cutoff and pitch alone, one each, of straight parts: what goes beyond is left out.",
        |holds, region| holds.loses(region, |lost| lost.courses),
    ),
    (
        "SFZ has no such slow movements: they are left out.",
        |holds, region| holds.loses(region, |lost| lost.movements),
    ),
    (
        "SFZ's slow movements are each key's own, at 120 beats a minute, for ever, and not smoothly random: these become such.",
        |holds, region| holds.loses(region, |lost| lost.waves),
    ),
    (
        "SFZ has no one tone at a time and no glides: all keys sound.",
        |holds, region| holds.region(region) && holds.voices(region, |voices| voices.glide.is_some()),
    ),
    (
        "SFZ counts the voices of regions that have a shape of their own for themselves.",
        |holds, region| {
            let counted = |voices: &Voices| voices.most.is_some() || voices.same_key != SameKey::Rings;
            holds.region(region) && region.shape.is_some() && holds.voices(region, counted)
        },
    ),
    (
        "SFZ has no voice that a key goes on in: struck again, it begins anew, and the one before ends.",
        |holds, region| {
            holds.region(region) && holds.voices(region, |voices| voices.same_key == SameKey::Shares)
        },
    ),
    (
        "SFZ does not say how many voices the whole has: all keys sound.",
        |holds, region| holds.region(region) && holds.program.most_voices.is_some(),
    ),
    ("SFZ does not say which voice goes first.", |holds, region| {
        holds.region(region)
            && holds.voices(region, |voices| {
                voices.most.is_some() && voices.goes_first != GoesFirst::Oldest
            })
    }),
];

/// What a page that plays loses: what nobody hears.
const OF_PAGE: &[Sentence] = &[("Muted strands are left out.", |holds, region| {
    holds.is_muted(region)
})];

/// Everything that is lost, with how many regions it touches. Of what is left out for one reason, no other is said.
pub(crate) fn losses(holds: &Holds<'_>) -> Vec<Loss> {
    let sentences = match holds.format {
        Format::SoundFont2 => OF_SOUNDFONT,
        Format::Sfz => OF_SFZ,
        Format::Page => OF_PAGE,
    };
    let touched = |test: fn(&Holds<'_>, &Region) -> bool| {
        let regions = holds.program.regions.iter();
        regions.filter(|region| test(holds, region)).count()
    };
    (sentences.iter().chain(OF_FORM))
        .map(|(what, test)| Loss {
            what: (*what).to_owned(),
            regions: touched(*test),
        })
        .filter(|loss| loss.regions > 0)
        .collect()
}

pub(crate) fn is_controller(within: &Within) -> bool {
    matches!(within.source, Source::Controller(_))
}

/// Whether keys or strikes come and go gradually.
fn fades(when: &When) -> bool {
    [when.keys, when.strikes]
        .iter()
        .any(|span| *span != Span::of(span.low, span.high))
}
