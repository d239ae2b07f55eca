//! The help of each command, its examples, and the words that people try for a command.

use clap::{Args as _, Command, CommandFactory as _};

use crate::args::Cli;
use crate::global::Global;

/// Examples of each command, by its words: what is typed, and what it does.
const EXAMPLES: &[(&str, &[(&str, &str)])] = &[
    (
        "map",
        &[
            ("yandro map saltmarsh.test ./saltmarsh", "a folder"),
            ("yandro map depot.saltmarsh.test ./depot --document-root public --alias handbook.saltmarsh.test", ""),
            ("yandro map tides.test ./tides --php --fallback /index.php", "PHP with a front controller"),
            ("yandro map tides.test --php-as-owner", "PHP that may write into the project"),
            ("yandro map booking.saltmarsh.test :3000", "a dev server"),
            ("yandro map booking.saltmarsh.test https://127.0.0.1:5173", "a dev server that speaks TLS itself"),
            ("yandro map crew.saltmarsh.test ./crew --address 192.168.56.10", "a virtual machine serves it"),
            ("yandro map tides.test depot.test crew.test", "the folders of these names"),
            ("yandro map --each ./ferries", "each folder in it, after you agreed to the list"),
            ("yandro map", "the sites that this folder's yandro.toml asks for"),
            ("yandro map saltmarsh.test --preview", "show what would change"),
        ],
    ),
    ("open", &[("yandro open saltmarsh.test", "without a browser: print its URL")]),
    (
        "logs",
        &[
            ("yandro logs saltmarsh.test", "the last lines, then each new one; Ctrl-C ends it"),
            ("yandro logs saltmarsh.test --errors --since 1h --once", "what failed within the last hour"),
        ],
    ),
    ("unmap", &[("yandro unmap saltmarsh.test", ""), ("yandro unmap saltmarsh.test --preview", "show what would go")]),
    (
        "adopt",
        &[
            ("yandro adopt", "list the sites that were written by hand"),
            ("yandro adopt saltmarsh.test --preview", "see what becomes of each line"),
            ("yandro adopt saltmarsh.test", "its lines are kept, and it answers as before"),
            ("yandro adopt --all", ""),
        ],
    ),
    (
        "rename",
        &[
            ("yandro rename tides.test ebb.test", ""),
            ("yandro rename tides.test ebb.test --keep-old", "the old name redirects to the new one"),
        ],
    ),
    ("move", &[("yandro move saltmarsh.test ./ferries", "the folder was moved, or another takes its place")]),
    (
        "env",
        &[
            (
                "yandro env tides.test",
                "SITE_URL, SITE_NAME and what `yandro map --env` set; in a shell: eval \"$(yandro env NAME)\"",
            ),
            ("yandro env tides.test --format dotenv", "as a .env file"),
        ],
    ),
    (
        "database",
        &[
            ("yandro database saltmarsh.test", "which it has, and whether they can be opened"),
            ("yandro database saltmarsh.test create", "one with an account that may use only it"),
        ],
    ),
    ("database show", &[("yandro database saltmarsh.test show --format env", "its connection, for a .env file")]),
    (
        "database create",
        &[
            ("yandro database saltmarsh.test create --import dump.sql.gz", "filled from a dump"),
            ("yandro database saltmarsh.test create postgresql:ferries", "of this kind, with this name"),
        ],
    ),
    ("database import", &[("yandro database saltmarsh.test import dump.sql.gz", "")]),
    ("database export", &[("yandro database saltmarsh.test export before.sql.gz", "packed, as its name says")]),
    ("database drop", &[("yandro database saltmarsh.test drop", "gone with all its rows, after a question")]),
    (
        "readdress",
        &[
            ("yandro readdress saltmarsh.test --from http://old.test:8080", "a clone that had another address"),
            ("yandro readdress saltmarsh.test", "after `yandro rename`"),
        ],
    ),
    (
        "disable",
        &[
            ("yandro disable tides.test", "out of use, with everything kept"),
            ("yandro disable --all", "all sites, for instance to free their ports"),
        ],
    ),
    ("enable", &[("yandro enable tides.test", ""), ("yandro enable --all", "")]),
    ("sites", &[("yandro sites", ""), ("yandro sites --json", "for programs")]),
    (
        "check",
        &[
            ("yandro check", "all sites"),
            ("yandro check saltmarsh.test --verbose", "one site, every step"),
            ("yandro check --fix", "fix what is safe to fix"),
            ("yandro check --report sites.html", "a page for a browser"),
            ("yandro check https://harbour.test:8443/tides", "what answers any URL, and why"),
        ],
    ),
    ("ports", &[("yandro ports", "")]),
    ("undo", &[("yandro undo", "the last change"), ("yandro undo 7 --preview", "what undoing change 7 would do")]),
    ("history", &[("yandro history", ""), ("yandro history --verbose", "with every path")]),
    ("history originals", &[("yandro history originals", "")]),
    ("history restore", &[("yandro history restore /etc/apache2/ports.conf", "")]),
    (
        "settle",
        &[
            ("yandro settle --preview", "what differs from the site list"),
            ("yandro settle", ""),
            ("yandro settle --put-back saltmarsh.test", "overwrite edits made by hand"),
            ("yandro settle --follow", "after this computer got another address"),
        ],
    ),
    (
        "uninstall",
        &[
            ("yandro uninstall --preview", "see every line that goes"),
            ("yandro uninstall", "asks, then takes everything away and proves it"),
        ],
    ),
    ("servers", &[("yandro servers", "which were found, and whether they run")]),
    ("vhosts", &[("yandro vhosts", ""), ("yandro vhosts --json", "for programs")]),
    ("hosts list", &[("yandro hosts list", "")]),
    ("hosts lint", &[("yandro hosts lint", ""), ("yandro hosts lint --fix", "fix what is safe to fix")]),
    ("hosts point", &[("yandro hosts point harbour.test 192.168.7.20", "")]),
    ("hosts drop", &[("yandro hosts drop harbour.test", "")]),
    (
        "hosts export",
        &[("yandro hosts export --address 192.168.7.20", "for colleagues"), ("yandro hosts export --format zone", "")],
    ),
    ("hosts import", &[("yandro hosts import team.txt", "")]),
    ("hosts restore", &[("yandro hosts restore", "")]),
    ("servers list", &[("yandro servers list", "")]),
    (
        "servers add",
        &[
            ("yandro servers add ferries --config /opt/ferries/conf/httpd.conf", "a bundle"),
            (
                "yandro servers add harbour --config /srv/harbour/nginx.conf --address 192.168.56.10",
                "a virtual machine that shares that folder",
            ),
        ],
    ),
    ("servers drop", &[("yandro servers drop ferries", "")]),
    ("servers test", &[("yandro servers test nginx", "")]),
    ("servers reload", &[("yandro servers reload nginx", "")]),
    ("servers start", &[("yandro servers start apache", "")]),
    ("servers stop", &[("yandro servers stop apache", "")]),
    ("servers restart", &[("yandro servers restart apache", "")]),
    (
        "cert show",
        &[
            ("yandro cert show saltmarsh.test", "a site's"),
            ("yandro cert show ./old.pem", "a file"),
            ("yandro cert show https://saltmarsh.test:8443", "what a server sends"),
        ],
    ),
    ("cert issue", &[("yandro cert issue harbour.test '*.harbour.test' --out ./harbour", "")]),
    ("cert sign", &[("yandro cert sign request.pem --out certificate.pem", "")]),
    ("cert renew", &[("yandro cert renew", ""), ("yandro cert renew --install-timer", "every day by itself")]),
    (
        "cert env",
        &[
            ("yandro cert env booking.saltmarsh.test", "for eval in a shell"),
            ("yandro cert env booking.saltmarsh.test --format dotenv", "for a .env file"),
        ],
    ),
    ("authority show", &[("yandro authority show", "")]),
    ("authority trust", &[("yandro authority trust", ""), ("yandro authority trust --store browsers", "")]),
    ("authority distrust", &[("yandro authority distrust", "")]),
    ("authority widen", &[("yandro authority widen saltmarsh.example.com", "")]),
    ("authority narrow", &[("yandro authority narrow saltmarsh.example.com", "")]),
    ("authority replace", &[("yandro authority replace", "")]),
    ("authority passphrase", &[("yandro authority passphrase", "")]),
    ("authority env", &[("yandro authority env", "for eval in a shell")]),
    ("authority export", &[("yandro authority export --out root.pem", "")]),
    ("pack", &[("yandro pack saltmarsh.test --out ./packed --kind nginx --port 8080:80 --port 8443:443", "")]),
    (
        "serve",
        &[
            ("yandro serve", ""),
            ("yandro serve --install", "as a service, from now on and after each start"),
            ("yandro serve --listen 192.168.7.20", "for a phone on the same network"),
        ],
    ),
    (
        "lend",
        &[
            ("yandro lend saltmarsh.test", "as saltmarsh.local, for an hour"),
            ("yandro lend saltmarsh.test --minutes 10 --called ferries", "as ferries.local"),
        ],
    ),
    ("demo", &[("yandro demo", ""), ("yandro demo --keep", "and look at the folder afterwards")]),
    (
        "setup completions",
        &[
            ("yandro setup completions bash > ~/.local/share/bash-completion/completions/yandro", "bash"),
            ("yandro setup completions zsh > ~/.zfunc/_yandro", "zsh, with ~/.zfunc in fpath"),
            ("yandro setup completions fish > ~/.config/fish/completions/yandro.fish", "fish"),
        ],
    ),
    (
        "setup ports",
        &[
            ("yandro setup ports", "then: yandro map NAME FOLDER --server built-in"),
            ("yandro setup ports --remove", ""),
        ],
    ),
    ("setup man", &[("yandro setup man --out ~/.local/share/man/man1", "then: man yandro-map")]),
    (
        "help",
        &[
            ("yandro help map", ""),
            ("yandro help hosts lint", ""),
            ("yandro help options", "global options"),
            ("yandro help support", "what a report of a problem needs"),
        ],
    ),
];

/// Words that people try for a command, what they look for, and what does it.
const WORDS: &[(&[&str], &str, &str)] = &[
    (&["list", "ls", "show"], "list the sites", "yandro sites"),
    (&["add", "new", "create", "site", "link"], "map a site", "yandro map NAME FOLDER"),
    (&["remove", "rm", "delete", "del", "unlink"], "remove a site", "yandro unmap NAME"),
    (&["status", "test", "doctor", "verify"], "check the sites", "yandro check"),
    (&["start"], "start a web server", "yandro servers start"),
    (&["stop"], "stop a web server", "yandro servers stop"),
    (&["reload"], "reload a web server", "yandro servers reload"),
    (&["restart"], "restart a web server", "yandro servers restart"),
    (&["mv"], "give a site another name", "yandro rename OLD NEW"),
    (&["take-over", "import"], "take over a site that was written by hand", "yandro adopt"),
    (&["pause", "suspend"], "take a site out of use for a while", "yandro disable NAME"),
    (&["resume"], "bring a site back into use", "yandro enable NAME"),
    (&["log", "changes"], "show the changes so far", "yandro history"),
    (&["revert", "rollback", "restore"], "undo the last change", "yandro undo"),
    (&["sync", "apply"], "apply the site list", "yandro settle"),
    (&["trust", "install"], "trust the authority", "yandro authority trust"),
    (&["completions", "completion"], "print completions for a shell", "yandro setup completions SHELL"),
    (&["man", "manual"], "write the manual pages", "yandro setup man --out DIR"),
];

/// The command that people mean by a word, with its purpose.
pub(crate) fn meant(word: &str) -> Option<(&'static str, &'static str)> {
    let found = WORDS.iter().find(|(words, ..)| words.contains(&word));
    found.map(|(_, aim, command)| (*aim, *command))
}

/// The command line, each command with its examples.
pub(crate) fn command() -> Command {
    with_examples(Cli::command(), "")
}

fn with_examples(mut command: Command, path: &str) -> Command {
    if !path.is_empty() {
        let own = command.get_after_help().map(ToString::to_string);
        let examples = EXAMPLES.iter().find(|(name, _)| *name == path).map(|(_, examples)| shown(examples));
        let pointer = "Options of every command: yandro help options".to_owned();
        let parts: Vec<String> = own.into_iter().chain(examples).chain([pointer]).collect();
        command = command.after_help(parts.join("\n\n"));
    }
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    names.into_iter().fold(command, |command, name| {
        let path = format!("{path} {name}").trim_start().to_owned();
        command.mut_subcommand(name, |sub| with_examples(sub, &path))
    })
}

fn shown(examples: &[(&str, &str)]) -> String {
    let line = |(typed, what): &(&str, &str)| match *what {
        "" => format!("\n  {typed}"),
        what => format!("\n  {typed}  # {what}"),
    };
    format!("Examples:{}", examples.iter().map(line).collect::<String>())
}

/// The help of a command by its words, of the whole program without any, or of the global options.
/// `None` if there is no such command.
pub(crate) fn page(topic: &[String]) -> Option<String> {
    if let [only] = topic
        && only == "options"
    {
        return Some(options());
    }
    let mut command = command();
    command.build();
    for word in topic {
        command = command.find_subcommand(word).filter(|sub| !sub.is_hide_set())?.clone();
    }
    Some(command.render_long_help().to_string())
}

/// The short help of the whole program.
pub(crate) fn summary() -> String {
    command().render_help().to_string()
}

/// The options that every command takes.
fn options() -> String {
    let bare = Global::augment_args(Command::new("yandro"));
    let ids: Vec<_> = bare.get_arguments().map(|arg| arg.get_id().clone()).collect();
    let shown = ids.into_iter().fold(bare, |command, id| command.mut_arg(id, |arg| arg.hide(false)));
    let mut shown =
        shown.disable_help_flag(true).about("Options that every command takes").help_template("{about}\n\n{options}");
    shown.render_long_help().to_string()
}

#[cfg(test)]
mod page;

#[cfg(test)]
mod tests {
    use clap::Parser as _;

    use super::*;

    fn leaves(command: &Command, path: &str, found: &mut Vec<String>) {
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
            let path = format!("{path} {}", sub.get_name()).trim_start().to_owned();
            if !sub.has_subcommands() || sub.is_args_conflicts_with_subcommands_set() {
                found.push(path.clone());
            }
            leaves(sub, &path, found);
        }
    }

    #[test]
    fn every_command_has_examples_and_every_example_is_a_command() {
        let mut all = Vec::new();
        leaves(&command(), "", &mut all);
        let without: Vec<_> = all
            .iter()
            .filter(|path| {
                page(&path.split(' ').map(str::to_owned).collect::<Vec<_>>())
                    .is_none_or(|text| !text.contains("Example"))
            })
            .collect();
        assert_eq!(without, Vec::<&String>::new());
        for (_, examples) in EXAMPLES {
            for (typed, _) in *examples {
                let typed = typed.split(" > ").next().unwrap_or_default();
                let parsed = Cli::try_parse_from(shell_words::split(typed).unwrap());
                assert!(parsed.is_ok(), "{typed}: {}", parsed.unwrap_err());
            }
        }
    }

    /// `YANDRO_WRITE_DOCS=1 cargo test -p yandro-cli help` writes it again.
    #[test]
    fn the_page_of_commands_is_made_from_the_tables() {
        let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/commands.md");
        let page = page::commands();
        if std::env::var_os("YANDRO_WRITE_DOCS").is_some() {
            std::fs::write(file, &page).unwrap();
        }
        assert_eq!(std::fs::read_to_string(file).unwrap_or_default(), page);
    }

    #[test]
    fn no_word_that_leads_to_a_command_is_one() {
        for word in WORDS.iter().flat_map(|(words, ..)| *words) {
            assert!(command().find_subcommand(word).is_none(), "{word}");
        }
        assert_eq!(meant("ls"), Some(("list the sites", "yandro sites")));
        assert_eq!(meant("ferry"), None);
    }
}
