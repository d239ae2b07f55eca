//! `docs/commands.md`, made from the tables of the command line.

use clap::{Args as _, Command};

use super::{EXAMPLES, command};
use crate::global::Global;

/// The page of all commands and options, `docs/commands.md`.
pub(super) fn commands() -> String {
    let mut page = String::from(
        "# Commands\n\nEvery command with its options. This page is made from the program's own tables.\n\n## Options of every command\n",
    );
    let bare = Global::augment_args(Command::new("yandro"));
    page += &options_table(&bare);
    let mut command = command();
    command.build();
    push_commands(&mut page, &command, "yandro");
    page
}

fn push_commands(page: &mut String, command: &Command, path: &str) {
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set() && sub.get_name() != "help") {
        let path = format!("{path} {}", sub.get_name());
        *page += &format!("\n## {path}\n{}.\n", sub.get_about().map(ToString::to_string).unwrap_or_default());
        if !sub.has_subcommands() || sub.is_args_conflicts_with_subcommands_set() {
            let usage = sub.clone().render_usage().to_string();
            *page += &format!("\n```\n{}\n", usage.trim_start_matches("Usage: "));
            let words = path.trim_start_matches("yandro ");
            for (typed, what) in EXAMPLES.iter().filter(|(name, _)| *name == words).flat_map(|(_, all)| *all) {
                *page += &if what.is_empty() { format!("{typed}\n") } else { format!("{typed}  # {what}\n") };
            }
            *page += "```\n";
            *page += &options_table(sub);
        }
        push_commands(page, sub, &path);
    }
}

/// The arguments and options of a command; nothing for one without.
fn options_table(command: &Command) -> String {
    let mut rows = String::new();
    for arg in command.get_arguments().filter(|arg| !["help", "version"].contains(&arg.get_id().as_str())) {
        // Those of every command have a table of their own.
        if arg.is_global_set() && command.get_name() != "yandro" {
            continue;
        }
        let values: Vec<String> = arg.get_value_names().into_iter().flatten().map(ToString::to_string).collect();
        let long = arg.get_long().map(|long| format!("--{long}"));
        let short = arg.get_short().map(|short| format!("-{short}"));
        let takes = arg.get_action().takes_values() && !arg.is_positional();
        let names: Vec<String> = short.into_iter().chain(long).collect();
        let name = match names.join(", ") {
            name if name.is_empty() => values.join(" "),
            name if takes && arg.is_require_equals_set() => format!("{name}[={}]", values.join(" ")),
            name if takes => format!("{name} {}", values.join(" ")),
            name => name,
        };
        let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
        let words: Vec<String> =
            arg.get_possible_values().iter().map(|value| format!("`{}`", value.get_name())).collect();
        let words = if words.is_empty() || !arg.get_action().takes_values() {
            String::new()
        } else {
            format!(": {}", words.join(", "))
        };
        rows += &format!("| `{name}` | {help}{words} |\n").replace("\\n", " ");
    }
    if rows.is_empty() { String::new() } else { format!("\n| option | what it does |\n|---|---|\n{rows}") }
}
