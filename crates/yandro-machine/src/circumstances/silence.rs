//! Why a server takes connections and doesn't answer.

use std::fs;
use std::time::Duration;

use rustix::process::Pid;
use yandro_core::{LogLine, Silence, SilenceReason};

use super::{OfServer, configuration, logs};
use crate::{ports, process};

/// Words of servers whose workers are all busy, as they are written into the main log.
const FULL: [&str; 3] = ["MaxRequestWorkers", "scoreboard is full", "worker_connections are not enough"];
/// How long ago the server may have written them.
const RECENT: Duration = Duration::from_secs(600);

/// Looks at the processes, the queues and the log of a server that says nothing on these ports.
pub(super) fn look(server: &OfServer, mut ports: Vec<u16>) -> Silence {
    let main = server.process.and_then(Pid::from_raw);
    let children = main.map(process::children).unwrap_or_default();
    let all = main.map(|pid| pid.as_raw_nonzero().get().unsigned_abs()).into_iter();
    let all = all.chain(children.iter().filter_map(|child| child.parse().ok()));
    let stopped: Vec<u32> = all.filter(|pid| process::is_stopped(*pid)).collect();
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
