//! The files of an `Include`, in the server's order.

use crate::server_path::ServerPath;

use super::files::Files;

/// The files of a path, which may be a folder or have wildcards; `None` if there is nothing.
/// An empty folder is something.
pub(crate) fn files_of(files: &dyn Files, path: &ServerPath) -> Option<Vec<ServerPath>> {
    let mut found = vec![path.root_of().into()];
    for part in path.parts() {
        found = if part.contains(['*', '?', '[']) {
            found.iter().flat_map(|folder| matching(files, folder, part)).collect()
        } else {
            found.into_iter().map(|folder| folder.join(part)).collect()
        };
    }
    found.retain(|path| files.exists(path));
    let is_any = !found.is_empty();
    is_any.then(|| found.into_iter().flat_map(|path| flat(files, path, 0)).collect())
}

fn matching(files: &dyn Files, folder: &ServerPath, pattern: &str) -> Vec<ServerPath> {
    let mut names = files.list(folder).unwrap_or_default();
    // A wildcard at the start doesn't match a name's first dot.
    names.retain(|name| {
        (pattern.starts_with('.') || !name.starts_with('.')) && matches(pattern.as_bytes(), name.as_bytes())
    });
    names.sort();
    names.into_iter().map(|name| folder.join(name)).collect()
}

/// A folder means all files in it and below, in order of names.
fn flat(files: &dyn Files, path: ServerPath, depth: usize) -> Vec<ServerPath> {
    // The server stops at a depth of 20.
    let Some(mut names) = (if depth < 20 { files.list(&path) } else { None }) else {
        return if files.exists(&path) { vec![path] } else { Vec::new() };
    };
    names.sort();
    names.into_iter().flat_map(|name| flat(files, path.join(name), depth + 1)).collect()
}

/// Whether a name matches a pattern, as fnmatch(3) does it.
fn matches(pattern: &[u8], name: &[u8]) -> bool {
    match (pattern.split_first(), name.split_first()) {
        (None, None) => true,
        (Some((b'*', rest)), _) => (0..=name.len()).any(|skipped| matches(rest, &name[skipped..])),
        (Some((b'?', rest)), Some((_, left))) => matches(rest, left),
        (Some((b'[', rest)), Some((first, left))) => match class(rest, *first) {
            Some((is_in, rest)) => is_in && matches(rest, left),
            None => *first == b'[' && matches(rest, left),
        },
        (Some((b'\\', rest)), Some((first, left))) if !rest.is_empty() => {
            rest[0] == *first && matches(&rest[1..], left)
        }
        (Some((own, rest)), Some((first, left))) => own == first && matches(rest, left),
        _ => false,
    }
}

/// Whether a byte is in the class that begins here, and what follows the class; `None` if it
/// never ends.
fn class(pattern: &[u8], byte: u8) -> Option<(bool, &[u8])> {
    let (is_negated, body) = match pattern.first() {
        Some(b'!' | b'^') => (true, &pattern[1..]),
        _ => (false, pattern),
    };
    let end = body.iter().skip(1).position(|byte| *byte == b']')? + 1;
    let members = &body[..end];
    let mut is_in = false;
    let mut at = 0;
    while at < members.len() {
        if at + 2 < members.len() && members[at + 1] == b'-' {
            is_in |= (members[at]..=members[at + 2]).contains(&byte);
            at += 3;
        } else {
            is_in |= members[at] == byte;
            at += 1;
        }
    }
    Some((is_in != is_negated, &body[end + 1..]))
}

/// Whether an included path with its wildcards takes in a file: part by part, or as a folder
/// that the file is somewhere below.
pub(crate) fn matches_path(pattern: &ServerPath, file: &ServerPath) -> bool {
    let mut parts = file.parts();
    let mut is_fit = |part: &str| parts.next().is_some_and(|own| matches(part.as_bytes(), own.as_bytes()));
    pattern.root_of() == file.root_of() && pattern.parts().all(&mut is_fit)
}
