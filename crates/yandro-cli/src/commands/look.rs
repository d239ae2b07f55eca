//! Looking at sites, with a line on the terminal for whoever waits.

use std::io::{IsTerminal as _, Write as _};
use std::sync::Arc;
use std::time::{Duration, Instant};

use yandro_core::{Site, SiteReport};
use yandro_machine::{Closeness, Limit, Progress, Scene, look};

use crate::context::{Context, now};
use crate::error::CommandError;

/// When it is worth saying that something is being done.
const PATIENCE: Duration = Duration::from_millis(500);

/// Looks at sites closely, on servers as they are now, and says on a terminal how far it has come.
pub(super) async fn closely(context: &Context, sites: &[Site], within: Limit) -> Result<Vec<SiteReport>, CommandError> {
    let present = context.look_for_servers();
    let (started, progress) = (Instant::now(), Arc::new(Progress::default()));
    let told = tokio::spawn(tell(progress.clone()));
    let scene = Scene { machine: &context.machine, present: &present, now: now(), progress: &progress };
    let looked = look(scene, sites, Closeness { is_close: true, within }).await;
    told.abort();
    // Whatever it wrote is gone before anything else is said.
    if told.await.is_err() && started.elapsed() > PATIENCE && std::io::stderr().is_terminal() {
        _ = std::io::stderr().write_all(b"\r\x1b[K");
    }
    Ok(looked?)
}

/// Looks at sites on the servers that the command knows, in silence.
pub(super) async fn quietly(
    context: &Context,
    sites: &[Site],
    closeness: Closeness,
) -> Result<Vec<SiteReport>, CommandError> {
    let (present, progress) = (context.present(), Progress::default());
    let scene = Scene { machine: &context.machine, present, now: now(), progress: &progress };
    Ok(look(scene, sites, closeness).await?)
}

/// The same for one site.
pub(super) async fn at_one(context: &Context, site: &Site, closeness: Closeness) -> Result<SiteReport, CommandError> {
    Ok(quietly(context, std::slice::from_ref(site), closeness).await?.remove(0))
}

/// A line on the terminal that is written over, as long as it takes.
async fn tell(progress: Arc<Progress>) {
    tokio::time::sleep(PATIENCE).await;
    if !std::io::stderr().is_terminal() {
        return;
    }
    loop {
        let (done, all) = progress.get();
        if all > 0 {
            _ = std::io::stderr().write_all(format!("\rchecking: {done} of {all} ").as_bytes());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}
