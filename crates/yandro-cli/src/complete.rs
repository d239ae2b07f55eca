//! Completions that know this machine's sites and servers. The shell's script asks the program itself.

use std::io;

use clap_complete::CompleteEnv;
use clap_complete::engine::CompletionCandidate;
use clap_complete::env::Shells;
use yandro_core::ServerKind;
use yandro_machine::{Environment, Machine, observe, settings};

/// The variable by which the script asks.
const VARIABLE: &str = "YANDRO_COMPLETE";

/// Answers the shell about the words of `command` and ends, if it is the shell that asks.
pub(crate) fn answer(command: fn() -> clap::Command) {
    CompleteEnv::with_factory(command).var(VARIABLE).complete();
}

/// The shells that there is a script for.
pub(crate) fn shells() -> Vec<&'static str> {
    Shells::builtins().names().collect()
}

pub(crate) fn script(shell: &str) -> io::Result<Vec<u8>> {
    let shells = Shells::builtins();
    let completer = shells.completer(shell).ok_or(io::ErrorKind::NotFound)?;
    let mut script = Vec::new();
    completer.write_registration(VARIABLE, "yandro", "yandro", "yandro", &mut script)?;
    Ok(script)
}

/// The names and aliases of the sites. A list that can't be read has none to offer.
pub(crate) fn sites() -> Vec<CompletionCandidate> {
    let list = Machine::new(&Environment::of_process(None)).ok().and_then(|machine| observe::site_list(&machine).ok());
    let Some((_, list)) = list else { return Vec::new() };
    let candidate =
        |name: &yandro_core::HostName, help: String| CompletionCandidate::new(name.as_str()).help(Some(help.into()));
    list.sites.iter().flat_map(|site| site.names().map(move |name| candidate(name, site.content.to_string()))).collect()
}

/// The words of the servers that there may be, and of those that the user added.
pub(crate) fn servers() -> Vec<CompletionCandidate> {
    let settings = Machine::new(&Environment::of_process(None)).ok().and_then(|machine| settings::read(&machine).ok());
    let added = settings.into_iter().flat_map(|settings| settings.servers).map(|server| server.name.to_string());
    let known = ServerKind::ALL.iter().map(|kind| kind.word().to_owned());
    known.chain(["built-in".to_owned()]).chain(added).map(CompletionCandidate::new).collect()
}
