//! The steps of mapped sites: `[[site.step]]`.

use std::io::IsTerminal as _;
use std::time::Instant;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Content, DatabaseAddress, DatabasePlace, HostName, Site, SiteStep, site_steps};
use yandro_machine::site_steps::{StepEnd, StepPlace, run};
use yandro_machine::{database, files};

use crate::args::MapArgs;
use crate::commands::{consent, database as databases, env};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{Data, GOOD, Outcome, STRONG, Ui, WARN, data, progress};

/// How many lines of a failed step are shown.
const LINES: usize = 8;

data! {
    /// The steps of the sites that were mapped.
    struct Steps {
        steps: Vec<StepRow>,
        /// Sites whose steps were not run, since nobody agreed to them.
        not_run: Vec<String>,
    }

    /// A step that was run.
    struct StepRow {
        site: String,
        /// The command as it is typed.
        command: String,
        /// `done`, `failed`, `too long`, `interrupted` or `not started`.
        result: &'static str,
        /// Its exit status, or why it was not started.
        status: Option<String>,
        /// How long it took, in milliseconds.
        took: u64,
        /// The file that has its output.
        output: String,
    }
}

impl Data for Steps {}

/// Runs the steps of the sites that were mapped, once the user agreed to this content of them. `None` if none has any. A
/// failing step ends those of its site, and takes nothing back.
pub(super) fn after<'c>(
    context: &Context,
    args: &MapArgs,
    names: &[HostName],
    of_project: Option<&str>,
) -> Result<Option<Outcome<'c>>, CommandError> {
    if context.preview || args.no_steps {
        return Ok(None);
    }
    let (text, list) = context.list()?;
    let mut all = site_steps(of_project.or(text.as_deref()).unwrap_or_default()).unwrap_or_default();
    all.retain(|(name, steps)| names.contains(name) && !steps.is_empty());
    if all.is_empty() {
        return Ok(None);
    }
    let mut done = Steps { steps: Vec::new(), not_run: Vec::new() };
    for (name, steps) in &all {
        let Some(site) = list.site(name) else { continue };
        if of_project.is_none() && !agreed(context, args, name, steps)? {
            done.not_run.push(name.to_string());
            continue;
        }
        run_all(context, site, steps, &mut done.steps)?;
    }
    let has_failed = done.steps.iter().any(|step| step.result != "done");
    let outcome = Outcome::new(done, show);
    Ok(Some(outcome.with(if has_failed { Status::Findings } else { Status::Well })))
}

/// Lines that show steps before they run.
pub(super) fn listed(steps: &[SiteStep]) -> impl Iterator<Item = String> {
    steps.iter().map(|step| {
        let shell = if step.shell { " (through a shell)" } else { "" };
        format!("runs {}{shell}", step.typed())
    })
}

/// Whether the user agreed to these steps, now or before.
fn agreed(context: &Context, args: &MapArgs, name: &HostName, steps: &[SiteStep]) -> Result<bool, CommandError> {
    let content: Vec<String> = listed(steps).collect();
    let content = content.join("\n");
    let folder = context.machine.places.data.join("steps");
    let kept = folder.join(format!("{name}.agreed"));
    if files::read_if_there(&kept)?.is_some_and(|agreed| agreed == content.as_bytes()) {
        return Ok(true);
    }
    if !args.accept {
        if !std::io::stdin().is_terminal() {
            return Ok(false);
        }
        let fact =
            format!("the steps of `{name}`, in its folder and with your rights:\n  {}", content.replace('\n', "\n  "));
        if consent::ask(&fact, "Run them?", "").is_err() {
            return Ok(false);
        }
    }
    context.machine.write_private(&kept, content.as_bytes())?;
    Ok(true)
}

fn run_all(context: &Context, site: &Site, steps: &[SiteStep], rows: &mut Vec<StepRow>) -> Result<(), CommandError> {
    let Content::Folder { folder, .. } = &site.content else { return Ok(()) };
    let folder = context.machine.path(folder.as_str());
    let variables = variables(context, site, &folder)?;
    let output: Utf8PathBuf = context.machine.places.data.join("steps").join(format!("{}.log", site.name));
    context.machine.write_private(&output, b"")?;
    let place = StepPlace { folder: &folder, variables: &variables, output: &output };
    for step in steps {
        _ = progress::now(&format!("running {}", step.typed()));
        let began = Instant::now();
        let (result, status) = match run(&context.machine, step, &place) {
            Ok(StepEnd::Status(Some(0))) => ("done", None),
            Ok(StepEnd::Status(status)) => {
                ("failed", Some(status.map_or("ended by a signal".into(), |code| format!("exit status {code}"))))
            }
            Ok(StepEnd::TooLong) => ("too long", Some(format!("ended after {} minutes", step.minutes))),
            Ok(StepEnd::Interrupted) => ("interrupted", None),
            Err(error) => ("not started", Some(error.to_string())),
        };
        rows.push(StepRow {
            site: site.name.to_string(),
            command: step.typed(),
            result,
            status,
            took: u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX),
            output: output.to_string(),
        });
        if result != "done" {
            break;
        }
    }
    Ok(())
}

/// What a step gets: the site's address and name, its own variables, and its database.
fn variables(context: &Context, site: &Site, folder: &Utf8Path) -> Result<Vec<(String, String)>, CommandError> {
    let url = context.url(site).trim_end_matches('/').to_owned();
    let mut variables = vec![("SITE_URL".to_owned(), url), ("SITE_NAME".to_owned(), site.name.to_string())];
    variables.extend(env::variables(site)?);
    let made = databases::made_for(context, &site.name)?;
    let database = made.or_else(|| database::configured(folder).into_iter().next().map(|found| found.address));
    variables.extend(database.iter().flat_map(of_database));
    Ok(variables)
}

fn of_database(address: &DatabaseAddress) -> Vec<(String, String)> {
    let (host, port) = match &address.place {
        DatabasePlace::Server(host, port) => (host.clone(), port.to_string()),
        DatabasePlace::Socket(path) | DatabasePlace::File(path) => (path.to_string(), String::new()),
    };
    let fields = [
        ("DATABASE_URL", Some(address.url())),
        ("DB_HOST", Some(host)),
        ("DB_PORT", Some(port)),
        ("DB_NAME", Some(address.name.clone())),
        ("DB_USER", address.user.clone()),
        ("DB_PASSWORD", address.password.clone()),
    ];
    let fields = fields.into_iter().filter_map(|(key, value)| Some((key, value.filter(|value| !value.is_empty())?)));
    fields.map(|(key, value)| (key.to_owned(), value)).collect()
}

fn show(data: &Steps, ui: &mut Ui) {
    if !data.steps.is_empty() {
        ui.say(&format!("{STRONG}steps{STRONG:#}"));
    }
    for step in &data.steps {
        let seconds = format!("{}.{} s", step.took / 1000, step.took % 1000 / 100);
        let style = if step.result == "done" { GOOD } else { WARN };
        ui.say(&format!("  {style}{}{style:#} {} ({seconds})", step.result, step.command));
        if step.result == "done" {
            continue;
        }
        let status = step.status.as_ref().map_or(String::new(), |status| format!(" ({status})"));
        ui.warn(&format!("{}: the step `{}` {}{status}", step.site, step.command, words(step.result)));
        let text = files::read_if_there(Utf8Path::new(&step.output)).ok().flatten().unwrap_or_default();
        let text = String::from_utf8_lossy(&text).into_owned();
        let lines: Vec<&str> = text.lines().collect();
        for line in &lines[lines.len().saturating_sub(LINES)..] {
            ui.say(&format!("    | {line}"));
        }
        ui.note(&format!("all of its output: {}; the site is mapped all the same", step.output));
    }
    for name in &data.not_run {
        ui.note(&format!("the steps of {name} were not run; to run them: yandro map {name} --accept"));
    }
}

/// A result as part of a sentence.
fn words(result: &str) -> &str {
    match result {
        "too long" => "took too long",
        "interrupted" => "was interrupted",
        "not started" => "could not be started",
        other => other,
    }
}
