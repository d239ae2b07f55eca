//! Logs of requests, as `access_log` names them.

use crate::config::Directive;

/// A log of requests, with the name of its format; without one the combined format.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct NamedLog {
    pub(super) path: String,
    pub(super) format: String,
}

/// Takes an `access_log` line: a file, or `off`.
pub(super) fn add_log(logs: &mut Option<Vec<NamedLog>>, own: &Directive) {
    let logs = logs.get_or_insert_default();
    let mut words = own.values();
    if let Some(path) = words.next().filter(|path| *path != "off") {
        let format = words.next().unwrap_or_default().to_owned();
        logs.push(NamedLog { path: path.to_owned(), format });
    }
}
