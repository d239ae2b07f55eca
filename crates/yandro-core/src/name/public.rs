//! The public suffix list (publicsuffix.org, Mozilla Public License 2.0): suffixes below which anyone can register names.

use core::cmp::Ordering;

/// Its rules, one on each line, sorted by their bytes; `scripts/public-suffixes` writes the file.
static RULES: &str = include_str!("../../data/public-suffixes.txt");

/// The public suffix of a name in ASCII, by the algorithm of the list: the longest rule counts, an exception before all.
/// `None` where no rule fits.
pub(super) fn public_suffix(name: &str) -> Option<&str> {
    let mut ends = core::iter::successors(Some(name), |end| parent(end));
    ends.find_map(|end| {
        let above = parent(end);
        if is_rule("!", end) {
            return above;
        }
        let is_wild = above.is_some_and(|above| is_rule("*.", above));
        (is_wild || is_rule("", end)).then_some(end)
    })
}

/// The name without its first label.
fn parent(name: &str) -> Option<&str> {
    name.split_once('.').map(|(_, above)| above)
}

/// Whether a text with this beginning is a rule.
fn is_rule(beginning: &str, end: &str) -> bool {
    let wanted = || beginning.bytes().chain(end.bytes());
    let (mut low, mut high) = (0, RULES.len());
    while low < high {
        let middle = low + (high - low) / 2;
        let start = RULES[..middle].rfind('\n').map_or(0, |at| at + 1);
        let length = RULES[start..].find('\n').unwrap_or(RULES.len() - start);
        match RULES[start..start + length].bytes().cmp(wanted()) {
            Ordering::Equal => return true,
            Ordering::Less => low = start + length + 1,
            Ordering::Greater => high = start,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// What the crate that the rules are from says.
    fn other(name: &str) -> Option<&str> {
        let found = psl::suffix(name.as_bytes()).filter(psl::Suffix::is_known)?;
        core::str::from_utf8(found.as_bytes()).ok()
    }

    #[test]
    fn each_rule_says_the_same_as_the_list_of_another_program() {
        assert!(RULES.lines().zip(RULES.lines().skip(1)).all(|(one, next)| one < next), "sorted");
        let mut count = 0;
        for rule in RULES.lines() {
            let bare = rule.trim_start_matches(['*', '!', '.']);
            for name in [bare.to_owned(), format!("ferry.{bare}"), format!("a.ferry.{bare}")] {
                // That program doesn't see that `*.r.example` holds for `a.r.example`, where `*.a.r.example` is a rule, too.
                let is_unseen = is_rule("*.", &name) && parent(&name).is_some_and(|above| is_rule("*.", above));
                assert!(is_unseen || public_suffix(&name) == other(&name), "{name}: {:?}", public_suffix(&name));
                count += 1;
            }
        }
        assert!(count > 30_000, "{count}");
        assert_eq!(public_suffix("www.ck"), Some("ck"), "an exception");
        assert_eq!(public_suffix("a.b.ck"), Some("b.ck"));
        assert_eq!(public_suffix("saltmarsh.test"), None);
    }

    proptest! {
        #[test]
        fn any_name_has_the_suffix_that_another_program_finds(
            labels in prop::collection::vec(prop_oneof!["[a-z]{1,3}", Just("com".into()), Just("co".into()), Just("uk".into()), Just("ck".into()), Just("kawasaki".into()), Just("city".into()), Just("jp".into()), Just("github".into()), Just("io".into())], 1..5),
        ) {
            let name = labels.join(".");
            prop_assert_eq!(public_suffix(&name), other(&name));
        }
    }
}
