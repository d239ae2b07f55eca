//! `yandro check --watch`: looks again whenever something changes.

use std::io::IsTerminal as _;
use std::time::{Duration, Instant, SystemTime};

use yandro_machine::Limit;

use super::chosen;
use crate::args::CheckArgs;
use crate::commands::look;
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;
use crate::view::{DIM, Outcome, Ui, check as view};

/// How often files are looked at for changes.
const LOOK: Duration = Duration::from_millis(200);
/// Time after which sites are checked again although no file has changed: servers come and go.
const AGAIN: Duration = Duration::from_secs(2);

/// Draws the table over itself until it is interrupted; without a terminal one after the other.
pub(super) fn run<'c>(context: &'c Context, args: &'c CheckArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let runtime = signals::runtime()?;
    let within = Limit::seconds(args.timeout);
    let over = std::io::stdout().is_terminal();
    let drawn = async {
        let mut last = String::new();
        loop {
            let started = Instant::now();
            let text = match context.list().and_then(|(_, list)| chosen(args, &list)) {
                Ok(sites) => {
                    let reports = look::closely(context, &sites, within, None).await?;
                    view::text(ui, &reports, started.elapsed())
                }
                // The person may be in the midst of an edit.
                Err(error) => error.message,
            };
            // Times differ from one check to the next, and don't matter.
            let news = without_times(&text);
            if over {
                ui.redraw(&format!("{text}\n{DIM}watching; Ctrl-C ends it{DIM:#}"));
            } else if news != last {
                ui.print(&text);
            }
            last = news;
            // The look itself has put a file into each document root, and taken it away.
            let (looked, state) = (Instant::now(), state(context));
            while looked.elapsed() < AGAIN && self::state(context) == state {
                tokio::time::sleep(LOOK).await;
            }
        }
    };
    let ended: Option<Result<Outcome<'c>, CommandError>> = runtime.block_on(signals::unless_interrupted(drawn));
    ended.unwrap_or(Ok(Outcome::printed()))
}

fn without_times(text: &str) -> String {
    let is_of_number = |c: char| c.is_ascii_digit() || matches!(c, '.' | ' ' | '(');
    let lines = text.lines().map(|line| match line.rsplit_once(" ms") {
        Some((before, _)) => before.trim_end_matches(is_of_number),
        None => line,
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// When the files were last changed on which the sites depend.
fn state(context: &Context) -> Vec<Option<SystemTime>> {
    let places = &context.machine.places;
    let changed = |path: &camino::Utf8Path| path.metadata().and_then(|meta| meta.modified()).ok();
    let mut paths = vec![places.hosts.clone(), places.site_list(), places.settings(), places.certificates()];
    if let Ok((_, list)) = context.list() {
        for site in &list.sites {
            paths.extend([places.chain(&site.name)]);
            paths.extend(site.document_root());
            let server = context.server(context.server_of_site(site));
            paths.extend(server.map(|found| found.layout.site_file(&site.name)));
        }
    }
    paths.iter().map(|path| changed(path)).collect()
}
