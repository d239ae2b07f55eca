//! Lints about the whole file.

use super::{LintCode, LintContext, LintFinding, LintWeight};
use crate::hosts::block::check_encoding;
use crate::source::Splice;
use crate::system::asked_before_files;

/// The size from which on each lookup takes notable time, in bytes: glibc reads the whole
/// file for each (docs/performance.md).
const LARGE: usize = 1_000_000;
/// Milliseconds that glibc needs for a megabyte, as measured.
const PER_MEGABYTE: usize = 4;

pub(super) fn lint(bytes: &[u8], context: &LintContext<'_>) -> Vec<LintFinding> {
    let mut found = Vec::new();
    let mut say = |code, weight, cause: String, remedy: &str| {
        let finding = LintFinding::new(code, weight, None, cause);
        found.push(if remedy.is_empty() { finding } else { finding.remedy(remedy) });
    };
    let (surroundings, path) = (context.surroundings, context.path);
    if check_encoding(bytes).is_err() {
        let cause = "the file is encoded as UTF-16, of which the resolver reads no line".to_owned();
        say(LintCode::Utf16, LintWeight::Error, cause, "save it as plain ASCII text");
    }
    if bytes.len() > LARGE {
        let (megabytes, cost) = (bytes.len() / LARGE, bytes.len() / LARGE * PER_MEGABYTE);
        let cause = format!("the file has {megabytes} MB, and each lookup of any name reads it all: about {cost} ms");
        say(LintCode::LargeFile, LintWeight::Warning, cause, "move block lists to a resolver that is made for them");
    }
    if surroundings.has_text_twin {
        let cause = format!("a `hosts.txt` is next to {path}, and nothing reads it");
        say(
            LintCode::TextTwin,
            LintWeight::Warning,
            cause,
            "take its lines over with `yandro hosts import`, then delete it",
        );
    }
    let sources = surroundings.name_sources();
    let order = format!("`hosts: {}` in /etc/nsswitch.conf", sources.join(" "));
    match asked_before_files(&sources) {
        Some("files") => {
            let cause = format!("the system doesn't read the file at all: {order}");
            say(LintCode::NotReadFirst, LintWeight::Error, cause, "put `files` first in that line");
        }
        Some(source) => {
            let cause = format!("the system asks `{source}` before the file: {order}");
            say(LintCode::NotReadFirst, LintWeight::Warning, cause, "put `files` first in that line");
        }
        None => {}
    }
    if surroundings.is_made_from_windows() {
        let cause = format!("{path} is generated from Windows's own at each start, and changes here are lost");
        let remedy = "say `[network]` `generateHosts = false` in /etc/wsl.conf; browsers on Windows read C:\\Windows\\System32\\drivers\\etc\\hosts, which needs the same lines";
        say(LintCode::MadeFromWindows, LintWeight::Warning, cause, remedy);
    } else if surroundings.is_mount(path) {
        let cause = format!("{path} is a mount, as in a container: it may be new at the next start");
        say(
            LintCode::Mount,
            LintWeight::Note,
            cause,
            "have the container's own configuration add the names, if they are to last",
        );
    }
    if bytes.starts_with(b"\xef\xbb\xbf") {
        let cause = "the file begins with a byte order mark, and so the resolver doesn't read its first line";
        found.push(LintFinding::error(LintCode::ByteOrderMark, 1, cause).fix(Splice::remove(0..3)));
    }
    found
}
