//! The arguments of `yandro servers`.

use camino::Utf8PathBuf;
use clap::{Args, Subcommand, ValueEnum};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct ServersArgs {
    #[command(subcommand)]
    pub(crate) command: Option<ServersCommand>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ServersCommand {
    /// List the servers that were found or named (as without a word)
    List,
    /// Name an Apache httpd that can't be found by looking; sites are mapped on it from then on
    Add(ServerAddArgs),
    /// Take a server that you named out of the settings
    Drop {
        /// Its name
        name: String,
    },
    /// Let a server judge its configuration
    Test {
        /// Its name; without it the one that sites are mapped on
        name: Option<String>,
    },
    /// Have a server take its configuration up, without cutting connections
    Reload {
        /// Its name; without it the one that sites are mapped on
        name: Option<String>,
    },
    /// Start a server
    Start {
        /// Its name; without it the one that sites are mapped on
        name: Option<String>,
    },
    /// Stop a server
    Stop {
        /// Its name; without it the one that sites are mapped on
        name: Option<String>,
    },
    /// Stop a server and start it again
    Restart {
        /// Its name; without it the one that sites are mapped on
        name: Option<String>,
    },
}

#[derive(Debug, Args)]
#[command(after_help = "Commands are given as one word each, in quotes, and run without a shell:
  yandro servers add ferries --config /opt/ferries/conf/httpd.conf --reload \"/opt/ferries/ctl graceful\"")]
pub(crate) struct ServerAddArgs {
    /// What you call it
    pub(crate) name: String,
    /// What kind of server it is
    #[arg(long, value_enum, default_value_t = ServerKindArg::Apache)]
    pub(crate) kind: ServerKindArg,
    /// Its main file, such as /opt/ferries/conf/httpd.conf
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Utf8PathBuf,
    /// Its program, if it is not `bin/httpd` beside the configuration's folder
    #[arg(long, value_name = "FILE")]
    pub(crate) program: Option<Utf8PathBuf>,
    /// A command of its own that judges the configuration
    #[arg(long, value_name = "COMMAND")]
    pub(crate) test: Option<String>,
    /// A command of its own that has the configuration taken up
    #[arg(long, value_name = "COMMAND")]
    pub(crate) reload: Option<String>,
    /// A command of its own that starts it
    #[arg(long, value_name = "COMMAND")]
    pub(crate) start: Option<String>,
    /// A command of its own that stops it
    #[arg(long, value_name = "COMMAND")]
    pub(crate) stop: Option<String>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ServerKindArg {
    /// Apache httpd
    Apache,
}
