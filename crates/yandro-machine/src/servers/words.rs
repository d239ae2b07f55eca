//! A server's own words about a reload or a start that failed, from its log or the journal.

use super::found::Found;
use super::unasked_configuration;
use crate::changes::ControlError;
use crate::machine::Machine;
use crate::{files, ports, process};

/// How much of a log's end is read, in bytes.
const LOG_END: u64 = 1 << 14;

/// The last lines of its main log that are of this process and of faults.
pub(super) fn last_words(machine: &Machine, found: &Found, pid: i32) -> Option<String> {
    let own = format!("[emerg] {pid}#");
    let logs = unasked_configuration(machine, found).error_logs(&|_| false);
    let text = logs.iter().find_map(|log| files::read_end(&found.view.here_or_same(log), LOG_END).ok())?;
    let mut lines: Vec<&str> = Vec::new();
    for line in text.lines().rev().take_while(|line| line.contains(&own) || line.contains("[notice]")) {
        // It tries each address several times.
        let words = line.split_once(": ").map_or(line, |(_, words)| words);
        if line.contains(&own) && lines.iter().all(|known| !known.ends_with(words)) {
            lines.push(line);
        }
    }
    lines.reverse();
    (!lines.is_empty()).then(|| lines.join("\n"))
}

/// Whether a server's words are about addresses that it has itself, in another width: `127.0.0.1:80` and `0.0.0.0:80`.
pub(super) fn holds_what_it_wants(pid: i32, words: &str) -> bool {
    let wanted = words.lines().filter_map(|line| line.split_once("bind() to ")?.1.split_once(" failed (98:"));
    let ports: Vec<u16> = wanted.filter_map(|(address, _)| address.rsplit(':').next()?.parse().ok()).collect();
    let main = u32::try_from(pid).ok();
    let is_own = |port: &u16| {
        let holders = ports::holders(*port);
        !holders.is_empty() && holders.iter().all(|holder| holder.pid == main)
    };
    !ports.is_empty() && ports.iter().all(is_own)
}

/// The words of `systemctl` lead to the journal: with what the service wrote there, where this user may read it.
pub(super) fn with_journal(error: ControlError, service: &str) -> ControlError {
    let Some(journalctl) = process::find(&["/usr/bin/journalctl", "/bin/journalctl"]) else { return error };
    let arguments = ["--unit", service, "--lines=8", "--output=cat", "--no-pager", "--quiet", "--since=-60s"];
    match (error, process::run(&journalctl, &arguments)) {
        (ControlError::Said(words), Ok(ran)) if ran.succeeded && !ran.words.is_empty() => {
            ControlError::Said(format!("{words}\n{}", ran.words))
        }
        (error, _) => error,
    }
}
