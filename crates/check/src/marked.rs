//! What somebody heard on a walk along the keys, and marked.

use crate::mends::mend;
use instrument::{Fact, Facts, Finding, FindingKind, Said, Target};

/// Each mark, with the words that were said of it; it is taken away as it was set.
pub(crate) fn found(said: &Facts) -> impl Iterator<Item = Finding> {
    said.iter().filter_map(|((target, fact), value)| {
        let Target::Mark(number) = *target else {
            return None;
        };
        let (key, strike) = ((number & 0x7f) as u8, ((number >> 8) & 0x7f) as u8);
        let says = value.as_str().filter(|_| *fact == Fact::Mark)?;
        let away = vec![(*target, Fact::Mark, Said::Automatic)];
        let finding = Finding {
            keys: Some([key, key]),
            strikes: Some([strike, strike]),
            ..Finding::so(FindingKind::Marked, says)
        };
        let mend = mend("Take the mark away", "The mark goes, nothing else.", away);
        Some(finding.about(*target).mended_by(Some(mend)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::mark_number;

    #[test]
    fn a_mark_is_a_finding_on_its_key_and_strike_and_can_be_taken_away() {
        let target = Target::Mark(mark_number(61, 112));
        let said = Facts::from([
            ((target, Fact::Mark), "a rattle".into()),
            ((Target::Instrument, Fact::Name), "Chimes".into()),
        ]);
        let found: Vec<Finding> = found(&said).collect();
        assert_eq!(found.len(), 1);
        assert_eq!(
            (found[0].keys, found[0].strikes),
            (Some([61, 61]), Some([112, 112]))
        );
        assert_eq!(found[0].says, "a rattle");
        let wish = &found[0].mend.as_ref().unwrap().wishes[0];
        assert_eq!((wish.target, wish.after.clone()), (target, Said::Automatic));
    }
}
