//! The arguments of `yandro servers`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Args, Subcommand};
use yandro_core::ServerKind;

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
    /// Name a server that can't be found by looking: of a bundle, in a container, in a virtual machine
    Add(Box<ServerAddArgs>),
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
#[command(after_help = "What is said of a server that was named before is added to what is known of it.
Commands are given as one word each, in quotes, and run without a shell.

A bundle with a control program of its own:
  yandro servers add ferries --config /opt/ferries/conf/httpd.conf --reload \"/opt/ferries/ctl graceful\"
A container that has two folders mounted and its ports published:
  yandro servers add ferries --kind nginx --config ./ferries/conf.d \\
    --path ./ferries/conf.d=/etc/nginx/conf.d --path ./saltmarsh=/srv/saltmarsh \\
    --path ~/.local/share/yandro/certificates=/etc/yandro/certificates \\
    --port 8080:80 --port 8443:443 --reload \"podman exec ferries nginx -s reload\"")]
pub(crate) struct ServerAddArgs {
    /// What you call it
    pub(crate) name: String,
    /// Name it for all users of this computer, in /etc/yandro/servers.toml (needs root): yandro then
    /// tests and reloads it through sudo, also for users who may not do more there
    #[arg(long)]
    pub(crate) for_everyone: bool,
    /// What kind of server it is, where the configuration's name doesn't tell
    #[arg(long, value_parser = server_kind())]
    pub(crate) kind: Option<ServerKind>,
    /// Its main file, such as /opt/ferries/conf/httpd.conf, or the folder in which it reads every
    /// file that ends in `.conf`; as this machine sees it
    #[arg(long, value_name = "PATH")]
    pub(crate) config: Option<Utf8PathBuf>,
    /// A folder of this machine, and where the server has it; give it once for each. Without any
    /// it sees all under the same paths
    #[arg(long = "path", value_name = "HERE=THERE")]
    pub(crate) paths: Vec<String>,
    /// The address at which it is reached, if that is not 127.0.0.1
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// A port at which it is reached, and its own; give it once for each
    #[arg(long = "port", value_name = "HERE:THERE")]
    pub(crate) ports: Vec<String>,
    /// Its program on this machine, if that is not below the bundle's folder
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

/// Reads a kind of server.
pub(crate) fn server_kind() -> impl TypedValueParser<Value = ServerKind> {
    let words = ServerKind::ALL.iter().map(|kind| PossibleValue::new(kind.word()).help(kind.software().title()));
    PossibleValuesParser::new(words).try_map(|word| ServerKind::parse(&word).ok_or("no kind of server"))
}
