//! Reverting a change of a text by its lines, in a file that has other changes since.

use std::collections::HashSet;

use similar::{Algorithm, DiffOp, capture_diff_slices};

/// How many lines before and after a change are looked for with it: all of them first, then fewer.
const CONTEXTS: [(usize, usize); 6] = [(3, 3), (2, 2), (1, 1), (1, 0), (0, 1), (0, 0)];

/// `now` with the lines as they were in `before` that a change made different in `after`. Both may be
/// parts of the file, with the lines around the change. `None` where one of the changed lines is no
/// longer as the change left it.
pub fn reversed(now: &[u8], before: &[u8], after: &[u8]) -> Option<Vec<u8>> {
    let (now, before, after) = (lines(now), lines(before), lines(after));
    let mut result: Vec<&[u8]> = Vec::new();
    let mut at = 0;
    for op in capture_diff_slices(Algorithm::Myers, &after, &before) {
        let (_, changed, original) = op.as_tag_tuple();
        if matches!(op, DiffOp::Equal { .. }) {
            continue;
        }
        let start = CONTEXTS.iter().find_map(|context| find(&now, at, &after, &changed, *context));
        let start = start.or_else(|| if changed.is_empty() { near(&now, at, &after, changed.start) } else { None })?;
        result.extend(&now[at..start]);
        result.extend(&before[original]);
        at = start + changed.len();
    }
    result.extend(&now[at..]);
    Some(result.join(&b'\n'))
}

/// `now` with the lines back that a change took out, also if none of the lines that it added is left. `before` and
/// `after` may be parts of the file. Lines whose place can't be found come last; those that are back already stay single.
pub fn with_removed_lines(now: &[u8], before: &[u8], after: &[u8]) -> Vec<u8> {
    let present: HashSet<&[u8]> = lines(now).into_iter().collect();
    let mut gone = changed_lines(before, after).gone;
    gone.retain(|line| !present.contains(line));
    if gone.is_empty() {
        return now.to_vec();
    }
    let is_there = |line: &&[u8]| present.contains(line);
    let before: Vec<&[u8]> = lines(before).into_iter().filter(|line| is_there(line) || gone.contains(line)).collect();
    let after: Vec<&[u8]> = lines(after).into_iter().filter(is_there).collect();
    reversed(now, &before.join(&b'\n'), &after.join(&b'\n')).unwrap_or_else(|| {
        let end: &[u8] = if now.is_empty() || now.ends_with(b"\n") { b"" } else { b"\n" };
        [now, end, &gone.join(&b'\n'), b"\n"].concat()
    })
}

/// The lines that a change took out of a text and those that it brought, without what it only moved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangedLines<'t> {
    /// Removed lines.
    pub gone: Vec<&'t [u8]>,
    /// Added lines.
    pub brought: Vec<&'t [u8]>,
}

/// Compares a text before and after a change.
pub fn changed_lines<'t>(before: &'t [u8], after: &'t [u8]) -> ChangedLines<'t> {
    let (before, after) = (lines(before), lines(after));
    let without = |these: &[&'t [u8]], others: &[&'t [u8]]| {
        these.iter().filter(|line| !line.is_empty() && !others.contains(line)).copied().collect()
    };
    ChangedLines { gone: without(&before, &after), brought: without(&after, &before) }
}

/// The lines without their line feeds; a text that ends in one has an empty line at its end.
fn lines(text: &[u8]) -> Vec<&[u8]> {
    text.split(|byte| *byte == b'\n').collect()
}

/// The place of the changed lines in `now` from line `from` on, with so many lines of context.
fn find(
    now: &[&[u8]],
    from: usize,
    after: &[&[u8]],
    changed: &std::ops::Range<usize>,
    (above, below): (usize, usize),
) -> Option<usize> {
    let start = changed.start.saturating_sub(above);
    let end = (changed.end + below).min(after.len());
    let pattern = &after[start..end];
    if pattern.is_empty() {
        return None;
    }
    let lead = changed.start - start;
    // The context above may have been passed already.
    let first = from.saturating_sub(lead);
    let place = now.get(first..)?.windows(pattern.len()).position(|window| window == pattern)?;
    Some(first + place + lead).filter(|start| *start >= from)
}

/// The place for lines that were removed at line `place` of `after`, when their neighbours are gone too:
/// behind the closest line before them that is left, or else before the closest one after them.
fn near(now: &[&[u8]], from: usize, after: &[&[u8]], place: usize) -> Option<usize> {
    let find = |line: &&[u8]| now[from..].iter().position(|own| !line.trim_ascii().is_empty() && own == line);
    let before = after[..place].iter().rev().find_map(find).map(|at| from + at + 1);
    before.or_else(|| after[place..].iter().find_map(find).map(|at| from + at))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn undone(now: &str, before: &str, after: &str) -> Option<String> {
        reversed(now.as_bytes(), before.as_bytes(), after.as_bytes()).map(|text| String::from_utf8(text).unwrap())
    }

    #[test]
    fn lines_go_back_wherever_they_are_by_now() {
        let (before, after) = ("a\nb\nc\n", "a\nb\nnew\nc\n");
        assert_eq!(undone("top\na\nb\nnew\nc\nd\n", before, after).as_deref(), Some("top\na\nb\nc\nd\n"));
        assert_eq!(undone("new\n", before, after).as_deref(), Some(""));
        assert_eq!(undone("a\nb\nedited\nc\n", before, after), None, "the line was edited");
        // A removed line comes back between its neighbours, or next to the one that is left.
        assert_eq!(undone("a\nc\nd\n", "a\nb\nc\n", "a\nc\n").as_deref(), Some("a\nb\nc\nd\n"));
        assert_eq!(undone("x\nc\nd\n", "a\nb\nc\n", "a\nc\n").as_deref(), Some("x\nb\nc\nd\n"));
        assert_eq!(undone("a\nx\n", "a\nb\nc\nd\n", "a\nc\nd\n").as_deref(), Some("a\nb\nx\n"));
        assert_eq!(undone("x\n", "a\nb\nc\n", "a\nc\n"), None, "no line around it is left");
        // A last line without an end gets one when something comes after it.
        assert_eq!(undone("a\nnew\nb", "a", "a\nnew").as_deref(), Some("a\nb"));
    }

    #[test]
    fn removed_lines_come_back_without_what_was_put_in_their_place() {
        let back = |now: &str| {
            let text = with_removed_lines(now.as_bytes(), b"a\nold\nb\n", b"a\nb\n# own\nnew\n# end\n");
            String::from_utf8(text).unwrap()
        };
        assert_eq!(back("a\nb\n"), "a\nold\nb\n", "the new lines are gone");
        assert_eq!(back("a\nb\nlater\n"), "a\nold\nb\nlater\n");
        assert_eq!(back("later\nb\n"), "later\nold\nb\n", "one neighbour is gone");
        assert_eq!(back("later\n"), "later\nold\n", "no neighbour is left");
        assert_eq!(back("later"), "later\nold\n", "no line around it, and no end of the last one");
        assert_eq!(back("a\nb\nold\n"), "a\nb\nold\n", "the person put it back");
    }

    proptest! {
        #[test]
        fn a_change_in_another_place_stays(top in "[a-d]{0,6}", changed in "[e-h]{0,5}", original in "[e-h]{0,5}", more in "[i-l]{1,4}") {
            let text = |parts: &[&str]| parts.concat().chars().map(|c| format!("{c}\n")).collect::<String>();
            let (before, after) = (text(&[&top, &original, "z"]), text(&[&top, &changed, "z"]));
            let now = text(&[&top, &changed, "z", &more]);
            prop_assert_eq!(undone(&now, &before, &after), Some(text(&[&top, &original, "z", &more])));
        }
    }
}
