//! Changes as people read them.

use similar::TextDiff;

use super::change::{Access, FileChange};
use super::content::FileContent;

/// A unified diff of a file's change, with three lines of context. What is
/// secret, and what people don't read (certificates), is named and not shown.
pub fn unified_diff(change: &FileChange) -> String {
    let old_name = if change.before.is_some() { change.path.as_str() } else { "/dev/null" };
    let new_name = if change.after.is_some() { change.path.as_str() } else { "/dev/null" };
    let summary = match (change.access, &change.after) {
        (Access::Secret, _) => Some("(a key: not shown)".to_owned()),
        (_, Some(after)) if after.starts_with(b"-----BEGIN CERTIFICATE-----") => {
            let count = after.split(|&b| b == b'\n').filter(|line| line.starts_with(b"-----BEGIN")).count();
            Some(format!("({count} certificate{} in PEM)", if count == 1 { "" } else { "s" }))
        }
        (_, None) if change.path.extension() == Some("pem") => Some("(certificates in PEM)".to_owned()),
        _ => None,
    };
    if let Some(summary) = summary {
        return format!("--- {old_name}\n+++ {new_name}\n{summary}\n");
    }
    let (before, after) = (text(change.before.as_ref()), text(change.after.as_ref()));
    TextDiff::from_lines(&before, &after).unified_diff().header(old_name, new_name).to_string()
}

fn text(content: Option<&FileContent>) -> String {
    content.map_or_else(String::new, |bytes| String::from_utf8_lossy(bytes).into_owned())
}
