//! The arguments of `yandro servers`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use yandro_core::ServerKind;

use crate::complete;

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct ServersArgs {
    #[command(subcommand)]
    pub(crate) command: Option<ServersCommand>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ServersCommand {
    /// List the web servers (the default)
    List,
    /// Add a server of a bundle, in a container or in a virtual machine
    Add(Box<ServerAddArgs>),
    /// Remove a server that you added
    Drop {
        /// Name of the server
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: String,
    },
    /// Test a server's configuration
    Test {
        /// Name of the server [default: the one that new sites are mapped on]
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: Option<String>,
    },
    /// Reload a server's configuration without dropping connections
    Reload {
        /// Name of the server [default: the one that new sites are mapped on]
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: Option<String>,
    },
    /// Start a server
    Start {
        /// Name of the server [default: the one that new sites are mapped on]
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: Option<String>,
    },
    /// Stop a server
    Stop {
        /// Name of the server [default: the one that new sites are mapped on]
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: Option<String>,
    },
    /// Restart a server
    Restart {
        /// Name of the server [default: the one that new sites are mapped on]
        #[arg(add = ArgValueCandidates::new(complete::servers))]
        name: Option<String>,
    },
}

#[derive(Debug, Args)]
#[command(after_help = "For a server that you added before, only the given settings change.
Commands are given as one word each, in quotes, and run without a shell.

A bundle with a control program of its own:
  yandro servers add ferries --config /opt/ferries/conf/httpd.conf --reload \"/opt/ferries/ctl graceful\"
A container that runs, with its virtual hosts, certificates and a project mounted:
  yandro servers add ferries --container ferries
The same by hand, for what no engine can be asked about:
  yandro servers add ferries --kind nginx --config ./ferries/conf.d \\
    --path ./ferries/conf.d=/etc/nginx/conf.d --path ./saltmarsh=/srv/saltmarsh \\
    --path ~/.local/share/yandro/certificates=/etc/yandro/certificates \\
    --port 8080:80 --port 8443:443 --reload \"podman exec ferries nginx -s reload\"")]
pub(crate) struct ServerAddArgs {
    /// Name for the server
    pub(crate) name: String,
    /// Add it for all users (needs root). yandro then tests and reloads it through sudo
    #[arg(long)]
    pub(crate) for_everyone: bool,
    /// Container that the server runs in: its kind, folders, ports and commands are asked from the
    /// container engine
    #[arg(long, value_name = "CONTAINER", conflicts_with_all = ["for_everyone", "program"])]
    pub(crate) container: Option<String>,
    /// Kind of server, if the name of the main file doesn't tell
    #[arg(long, value_parser = server_kind())]
    pub(crate) kind: Option<ServerKind>,
    /// Main configuration file, such as /opt/ferries/conf/httpd.conf, or the folder whose
    /// `.conf` files the server reads; path on this machine
    #[arg(long, value_name = "PATH")]
    pub(crate) config: Option<Utf8PathBuf>,
    /// Folder on this machine, and its path in the container or virtual machine (repeatable)
    #[arg(long = "path", value_name = "HERE=THERE")]
    pub(crate) paths: Vec<String>,
    /// Address of the server [default: 127.0.0.1]
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// Port on this machine, and the server's own port (repeatable)
    #[arg(long = "port", value_name = "HERE:THERE")]
    pub(crate) ports: Vec<String>,
    /// Program of the server, if it is outside the bundle's folder
    #[arg(long, value_name = "FILE")]
    pub(crate) program: Option<Utf8PathBuf>,
    /// Command that tests the configuration
    #[arg(long, value_name = "COMMAND")]
    pub(crate) test: Option<String>,
    /// Command that reloads the configuration
    #[arg(long, value_name = "COMMAND")]
    pub(crate) reload: Option<String>,
    /// Command that starts the server
    #[arg(long, value_name = "COMMAND")]
    pub(crate) start: Option<String>,
    /// Command that stops the server
    #[arg(long, value_name = "COMMAND")]
    pub(crate) stop: Option<String>,
}

/// Reads a kind of server.
pub(crate) fn server_kind() -> impl TypedValueParser<Value = ServerKind> {
    let words = ServerKind::ALL.iter().map(|kind| PossibleValue::new(kind.word()).help(kind.software().title()));
    PossibleValuesParser::new(words).try_map(|word| ServerKind::parse(&word).ok_or("no kind of server"))
}
