//! Rows of databases that change, as people read them.

use std::fmt::Write as _;

use camino::Utf8PathBuf;
use yandro_core::{Change, ChangeSet, RowsChange, common_ends};
use yandro_machine::database;

use super::{BAD, GOOD, STRONG, count};

/// How many texts a preview has.
const SHOWN: usize = 500;
/// How much of a text is shown around what differs, in characters.
const AROUND: usize = 40;
/// How much of a text is shown, in characters.
const LONGEST: usize = 160;

/// The texts of a change.
#[derive(Clone, Debug, Default)]
pub(crate) struct ChangedTexts {
    /// The file that keeps the rows.
    pub(crate) of: Utf8PathBuf,
    /// Table and column, before, after.
    pub(crate) texts: Vec<(String, String, String)>,
}

/// The texts that a change set changes, by the files that keep them.
pub(crate) fn texts_of(set: &ChangeSet) -> Vec<ChangedTexts> {
    let of_step = |change: &RowsChange| {
        let mut texts = Vec::new();
        // A file that can't be read is reported when the change is made.
        _ = database::each_text(change, &mut |place, before, after| {
            if texts.len() < SHOWN {
                texts.push((place.to_owned(), before.to_owned(), after.to_owned()));
            }
        });
        ChangedTexts { of: change.rows_file.clone(), texts }
    };
    let changes = set.steps.iter().filter_map(|step| match &step.change {
        Change::Rows(change) => Some(change),
        _ => None,
    });
    changes.map(of_step).collect()
}

/// A change of rows with its texts.
pub(crate) fn shown(change: &RowsChange, texts: &[(String, String, String)]) -> String {
    let mut out = format!("{STRONG}rows{STRONG:#} {}", told(change));
    for (place, before, after) in texts {
        _ = write!(out, "\n{STRONG}{place}{STRONG:#}\n{}", text_change(before, after));
    }
    if texts.len() == SHOWN {
        _ = write!(out, "\n… these are the first {SHOWN}");
    }
    out
}

/// A change of rows in a line.
pub(crate) fn told(change: &RowsChange) -> String {
    let rows = count(usize::try_from(change.rows).unwrap_or(usize::MAX), "row");
    format!("{rows} of {}: {}", change.database, addresses(change.places))
}

/// How many addresses.
pub(crate) fn addresses(number: u64) -> String {
    if number == 1 { "1 address".to_owned() } else { format!("{number} addresses") }
}

/// A text before and after, two lines, cut around what differs.
pub(crate) fn text_change(before: &str, after: &str) -> String {
    let (same, _) = common_ends(before.as_bytes(), after.as_bytes());
    let same = before.char_indices().take_while(|(at, _)| *at < same).count().saturating_sub(AROUND);
    let cut = |text: &str| {
        let shown: String = text
            .chars()
            .skip(same)
            .take(LONGEST)
            .map(|letter| if letter.is_control() { ' ' } else { letter })
            .collect();
        let (start, end) =
            (if same > 0 { "…" } else { "" }, if text.chars().count() > same + LONGEST { "…" } else { "" });
        format!("{start}{shown}{end}")
    };
    format!("{BAD}-{}{BAD:#}\n{GOOD}+{}{GOOD:#}", cut(before), cut(after))
}
