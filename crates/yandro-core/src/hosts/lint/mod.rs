//! The critic: what in a hosts file doesn't do what it seems to, and what fixes it.

mod address;
mod line;
mod names;
mod whole;

use std::collections::HashSet;
use std::ops::Range;

use super::lookup::Sorting;
use super::parse::{HostsEntry, HostsFile};
use crate::name::HostName;
use crate::site::{ListId, SiteList};
use crate::source::{self, Splice};
use crate::system::Surroundings;

pub use names::{HostsRow, rows};

/// Stable codes: a program may rely on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum LintCode {
    /// UTF-16: no line is read.
    Utf16,
    /// A byte order mark: the first line is not read.
    ByteOrderMark,
    /// So large that each lookup takes notable time.
    LargeFile,
    /// A `hosts.txt` is next to the hosts file, and nothing reads it.
    TextTwin,
    /// The system doesn't read the file, or asks another source first.
    NotReadFirst,
    /// The file is generated from Windows's.
    MadeFromWindows,
    /// The file is a mount, and new at each start.
    Mount,
    /// The line begins with a text that is not an address.
    NotAnAddress,
    /// An address without a name.
    NoName,
    /// A name that nothing ever asks for.
    NotAName,
    /// `;` begins no comment.
    NoComment,
    /// A carriage return in the midst of a line doesn't end it.
    StrayReturn,
    /// A NUL ends the line for the resolver.
    Nul,
    /// Longer than some resolvers read.
    LongLine,
    /// `localhost` is missing.
    LocalhostMissing,
    /// `localhost` points to another machine.
    LocalhostElsewhere,
    /// Another line says the same.
    Duplicate,
    /// Another line of the name answers first.
    Shadowed,
    /// A name points to this machine and is not a site.
    NoSite,
    /// A site's name is not in the file.
    SiteMissing,
    /// Yandro's line for a site that is no more.
    SiteGone,
    /// The site's folder is gone.
    FolderGone,
}

/// How much it matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LintWeight {
    /// Worth knowing; nothing is wrong.
    Note,
    /// It works otherwise than it seems to.
    Warning,
    /// It doesn't work.
    Error,
}

/// Something that the critic found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LintFinding {
    /// Which kind.
    pub code: LintCode,
    /// How much it matters.
    pub weight: LintWeight,
    /// The line, from 1, if it is about one.
    pub line: Option<usize>,
    /// The cause, in one sentence.
    pub cause: String,
    /// The user's part of the fix; none where `fix` does everything.
    pub remedy: Option<String>,
    /// The edit that fixes it.
    fix: Option<Splice>,
}

/// Facts that the lints depend on.
#[derive(Clone, Debug)]
pub struct LintContext<'a> {
    /// Tells lines of sites from others.
    pub sites: &'a SiteList,
    /// The identity of that list.
    pub list: &'a ListId,
    /// The sites whose folder is gone.
    pub folders_gone: &'a [HostName],
    /// The lines of a name that count, and which comes first.
    pub sorting: Sorting<'a>,
    /// Place of the file.
    pub surroundings: &'a Surroundings,
    /// The hosts file's path, for messages.
    pub path: &'a str,
}

impl LintFinding {
    fn new(code: LintCode, weight: LintWeight, line: Option<usize>, cause: impl Into<String>) -> Self {
        Self { code, weight, line, cause: cause.into(), remedy: None, fix: None }
    }

    fn error(code: LintCode, line: usize, cause: impl Into<String>) -> Self {
        Self::new(code, LintWeight::Error, Some(line), cause)
    }

    fn warning(code: LintCode, line: usize, cause: impl Into<String>) -> Self {
        Self::new(code, LintWeight::Warning, Some(line), cause)
    }

    fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    fn fix(mut self, splice: Splice) -> Self {
        self.fix = Some(splice);
        self
    }

    /// Whether [`fixed`] fixes it.
    pub fn is_fixable(&self) -> bool {
        self.fix.is_some()
    }
}

/// All that is to be said of a file, in the order of its lines.
pub fn lint(bytes: &[u8], context: &LintContext<'_>) -> Vec<LintFinding> {
    let mut found = whole::lint(bytes, context);
    if found.iter().any(|finding| finding.code == LintCode::Utf16) {
        return found;
    }
    let file = HostsFile::parse(bytes);
    let mut entries: Vec<HostsEntry> = Vec::new();
    for (number, full) in file.lines() {
        let entry = file.read(full.clone(), number);
        if entry.as_ref().is_none_or(|entry| !entry.ours) {
            line::lint(&file, number, &full, entry.as_ref(), (context.path, &mut found));
        }
        entries.extend(entry);
    }
    names::lint(&file, &entries, context, &mut found);
    found.sort_by_key(|finding| finding.line);
    found
}

/// The file with everything fixed that can be without asking; one that is well is as it was.
pub fn fixed(bytes: &[u8], context: &LintContext<'_>) -> Vec<u8> {
    let mut text = bytes.to_vec();
    // A cure can bring to light what it hid: a line that is read again may be a duplicate.
    for _ in 0..8 {
        let mut lines: HashSet<Option<usize>> = HashSet::new();
        let found = lint(&text, context);
        let first_of_line = found.into_iter().filter_map(|finding| {
            let splice = finding.fix?;
            lines.insert(finding.line).then_some(splice)
        });
        let splices: Vec<Splice> = first_of_line.collect();
        if splices.is_empty() {
            break;
        }
        text = source::apply(&text, &splices);
    }
    text
}

/// The bytes as people read them.
fn shown(bytes: &[u8], range: &Range<usize>) -> String {
    String::from_utf8_lossy(&bytes[range.clone()]).escape_debug().to_string()
}
