//! Why a server takes connections and doesn't answer.

use std::fs;
use std::time::Duration;

use yandro_core::{LogLine, Silence, SilenceReason};

use super::{OfServer, configuration, logs};
use crate::{os, ports};

/// Words of servers whose workers are all busy, as they are written into the main log.
const FULL: [&str; 3] = ["MaxRequestWorkers", "scoreboard is full", "worker_connections are not enough"];
/// How long ago the server may have written them.
const RECENT: Duration = Duration::from_secs(600);

/// Looks at the processes, the queues and the log of a server that says nothing on these ports.
pub(super) fn look(server: &OfServer, mut ports: Vec<u16>) -> Silence {
    let children = server.process.map(os::children).unwrap_or_default();
    let all = server.process.into_iter().chain(children);
    let is_stopped = |pid: &i32| os::process(*pid).is_some_and(|found| found.is_stopped);
    let stopped: Vec<u32> = all.filter(is_stopped).map(i32::unsigned_abs).collect();
    ports.sort_unstable();
    ports.dedup();
    let log = full_line(server);
    let reason = match (&stopped[..], &log) {
        ([_, ..], _) => SilenceReason::Stopped,
        (_, Some(_)) => SilenceReason::Full,
        _ => SilenceReason::Unknown,
    };
    Silence { reason, stopped, waiting: ports.into_iter().map(ports::waiting).sum(), log }
}

/// The line of the server's main log that says that all of its workers are busy.
fn full_line(server: &OfServer) -> Option<LogLine> {
    let logs = configuration::main_error_logs(&**server.read.as_ref()?, server.found.as_ref()?);
    logs.iter().find_map(|log| {
        let meta = fs::metadata(log).ok()?;
        let is_recent = meta.modified().ok()?.elapsed().is_ok_and(|age| age < RECENT);
        if is_recent { logs::last_line(log, &FULL) } else { None }
    })
}
