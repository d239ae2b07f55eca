//! Lines that are commented out, and would be directives.

use crate::server_path::ServerPath;

use super::parse::parse;
use super::run::{Files, HttpdRun};
use crate::config::Node;
use crate::source;

/// A commented-out `Include`.
pub(super) struct CommentedInclude {
    /// Its target, absolute.
    pub(super) path: ServerPath,
    /// Its target as written.
    pub(super) words: String,
    pub(super) file: ServerPath,
    /// Its line there.
    pub(super) line: source::Line,
}

/// The commented-out includes of a configuration's files.
pub(super) fn commented_includes(configuration: &HttpdRun, files: &dyn Files) -> Vec<CommentedInclude> {
    let mut found = Vec::new();
    for file in &configuration.files {
        let Some(text) = files.read(file) else { continue };
        for (line, words) in commented(&text) {
            let [name, path] = &words[..] else { continue };
            if name.eq_ignore_ascii_case("Include") || name.eq_ignore_ascii_case("IncludeOptional") {
                let (words, path) = (path.clone(), configuration.server_root.join(path));
                found.push(CommentedInclude { path, words, file: file.clone(), line });
            }
        }
    }
    found
}

/// The comments of one line that would be a directive, with its words.
pub(super) fn commented(text: &[u8]) -> impl Iterator<Item = (source::Line, Vec<String>)> + '_ {
    let mut is_continued = false;
    source::lines(text).filter_map(move |line| {
        let words = std::str::from_utf8(&text[line.text.clone()]).unwrap_or_default().as_bytes().trim_ascii();
        let was_continued = std::mem::replace(&mut is_continued, words.ends_with(b"\\"));
        let bare = words.strip_prefix(b"#")?.trim_ascii_start();
        // Prose has no such form, and a continued line needs its other lines.
        if was_continued || is_continued || bare.starts_with(b"#") {
            return None;
        }
        let tree = parse(bare).ok()?;
        let [Node::Directive(own)] = &tree.nodes[..] else { return None };
        Some((line, std::iter::once(own.name.clone()).chain(own.values().map(str::to_owned)).collect()))
    })
}
