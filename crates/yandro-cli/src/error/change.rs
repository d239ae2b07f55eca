//! Messages about a change that was not made.

use yandro_core::System;
use yandro_machine::{CarryOutError, PutBackError, Refusal, StepFailure, ports};

use super::{CommandError, Status};
use crate::as_root::{as_root, this_as_root};

/// A change that was not applied, with `proof` to say what a failed proof means.
pub(crate) fn carry_out<E>(error: CarryOutError<E>, proof: impl FnOnce(E) -> CommandError) -> CommandError {
    let (cause, put_back) = match error {
        CarryOutError::NotPermitted { paths, server } => return not_permitted(&paths, server),
        CarryOutError::NeedsRoot(refusals) => return needs_root(&refusals),
        CarryOutError::Unwritable(error) => {
            let mut command = CommandError::from(error);
            command.message += "; nothing was changed";
            return command;
        }
        CarryOutError::ChangedMeanwhile(path) => {
            return CommandError::not_made(format!(
                "{path} keeps being changed by another program; nothing was changed"
            ))
            .hint("run the command again")
            .code("changed-meanwhile");
        }
        CarryOutError::PortHeld { server, holder } => {
            return CommandError::not_made(format!(
                "{server} would have to listen on port {}, which {holder} has; nothing was changed",
                holder.port
            ))
            .hint("stop that program, or choose other ports: --http-port, --https-port")
            .code("port-held");
        }
        CarryOutError::Failed { cause, put_back } => (cause, put_back),
    };
    let mut command = failed(cause, proof);
    match put_back {
        Ok(servers) => {
            command.message += "\neverything was rolled back";
            for note in servers.notes() {
                command.message += &format!("\n{note}");
            }
        }
        Err(error) => {
            command.status = Status::NotPutBack;
            command.code = "not-rolled-back";
            command.message += &format!("\nand not everything could be rolled back: {error}");
            command.hints = vec![put_back_hint(&error)];
        }
    }
    command
}

/// The message for a failed step.
fn failed<E>(cause: StepFailure<E>, proof: impl FnOnce(E) -> CommandError) -> CommandError {
    match cause {
        StepFailure::File(error) => error.into(),
        StepFailure::Test(words) => {
            CommandError::not_made(format!("the server refuses the configuration:\n{}", indented(&words.to_string())))
                .hint("correct the file and line that it names, then run the command again")
                .code("server-refuses")
        }
        StepFailure::BrokenBefore(words) => CommandError::not_made(format!(
            "the server refuses its configuration as it was before yandro changed anything:\n{}",
            indented(&words.to_string())
        ))
        .hint("correct the file and line that it names, then run the command again")
        .code("server-refused-before"),
        StepFailure::BringUp(words) => {
            let error = CommandError::not_made(format!(
                "the server could not be started or reloaded:\n{}",
                indented(&words.to_string())
            ))
            .code("server-not-reloaded");
            match ports::explain(&words.to_string()) {
                Some(held) => error.hint(format!("{held}: stop it, or choose other ports: --http-port, --https-port")),
                None => error,
            }
        }
        StepFailure::Php(words) => {
            CommandError::not_made(format!("php-fpm doesn't take its pools:\n{}", indented(&words.to_string())))
                .hint("correct the file and line that it names, then run the command again; or leave the site in the pool that all sites share: --php-as-owner=off")
                .code("php-refuses")
        }
        StepFailure::Trust(words) => {
            CommandError::not_made(format!("the trust store was not updated:\n{}", indented(&words.to_string())))
                .code("trust-store")
        }
        StepFailure::Database(error) => {
            CommandError::not_made(format!("the rows of the database were not changed: {error}"))
                .hint("correct what the database says, then run the command again; or only the files: --no-database")
                .code("database-refuses")
        }
        StepFailure::Interrupted => CommandError::not_made("interrupted").code("interrupted"),
        StepFailure::Proof(seen) => proof(seen),
    }
}

/// The user may not do all of it.
fn not_permitted(paths: &[camino::Utf8PathBuf], server: bool) -> CommandError {
    let mut steps: String = paths.iter().map(|path| format!("\n  write {path}")).collect();
    if server {
        steps += "\n  test, reload, start or stop the web server";
    }
    CommandError::not_made(format!("you may not do this, and nothing was changed:{steps}"))
        .hint(format!("{}: {}", System::HERE.by_those_who_may(), this_as_root()))
        .code("not-permitted")
}

/// The change needs root's decision. Each reason is printed once, with its first path.
fn needs_root(refusals: &[Refusal]) -> CommandError {
    let who = System::HERE.administrator();
    let mut message = format!("only {who} can decide this, and nothing was changed:");
    let mut told: Vec<&str> = Vec::new();
    for Refusal { path, why } in refusals {
        if !told.contains(&why.as_str()) {
            message += &format!("\n  {path}: {why}");
            told.push(why);
        }
    }
    CommandError::not_made(message)
        .hint(format!("if you want that, run the command as {who}: {}", this_as_root()))
        .code("needs-root")
}

impl From<PutBackError> for CommandError {
    fn from(error: PutBackError) -> Self {
        let hint = put_back_hint(&error);
        let message = format!("an earlier command was interrupted, and not everything could be rolled back: {error}");
        Self { status: Status::NotPutBack, ..Self::not_made(message) }.hint(hint).code("not-rolled-back")
    }
}

fn put_back_hint(error: &PutBackError) -> String {
    match error {
        PutBackError::Foreign(path) => format!(
            "look at {path}: it holds somebody else's change and half of yandro's. `yandro settle` brings the rest in line"
        ),
        PutBackError::File(error) if error.is_permission() => {
            format!(
                "the interrupted command ran as {0}, and {0} can finish this: {1}",
                System::HERE.administrator(),
                as_root(&["sites"])
            )
        }
        PutBackError::File(error) => format!(
            "look at {} (is the disk full, or may you not write it?), then run any yandro command: it tries again",
            error.path
        ),
        error => format!("start the server by hand, and see its error log: {error}"),
    }
}

fn indented(words: &str) -> String {
    // Servers try more than once, and say so each time.
    let mut lines: Vec<String> = Vec::new();
    for line in words.lines().map(|line| format!("  {line}")) {
        if !lines.contains(&line) {
            lines.push(line);
        }
    }
    lines.join("\n")
}
