//! Arguments, as text of which only the form is checked.

mod authority;
mod cert;
mod database;
mod map;
mod servers;
mod sites;

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates;
use yandro_core::{ServerKind, Shell};

use crate::complete;
use crate::global::Global;
pub(crate) use authority::{AuthorityArgs, AuthorityCommand, RootFormat, StoresArg};
pub(crate) use cert::{CertArgs, CertCommand, IssueArgs, ManagerArg, RenewArgs};
pub(crate) use database::{ConnectionForm, DatabaseArgs, DatabaseCommand, DropArgs, ImportArgs, NewDatabaseArgs};
pub(crate) use map::{MapArgs, is_php_version, with_values_joined};
pub(crate) use servers::{ServerAddArgs, ServersArgs, ServersCommand};
pub(crate) use sites::{
    AdoptArgs, CheckArgs, DisableArgs, EnvArgs, LogsArgs, MoveArgs, OpenArgs, ReaddressArgs, RenameArgs, SettleArgs,
    UninstallArgs, UnmapArgs,
};

/// Serve project folders at <https://name> on your own machine.
///
/// `yandro map NAME FOLDER` writes the hosts entry, the virtual host and the
/// certificate, reloads the web server, and proves that the name is answered from
/// that folder over HTTPS. To try it without changing anything: `yandro demo`.
#[derive(Debug, Parser)]
#[command(name = "yandro", bin_name = "yandro", version, disable_help_subcommand = true, after_help = EXIT_STATUS)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
}

const EXIT_STATUS: &str = "Options of every command: yandro help options

Exit status:
  0  all is well
  1  there are findings
  2  wrong usage or bad input; nothing was changed
  3  the change could not be made; everything is as it was
  4  something could not be rolled back; the message says what to do
  5  all is done, but standard output could not be written";

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Map a name to a folder or a running server
    Map(Box<MapArgs>),
    /// Remove sites from every file that they were written to
    Unmap(UnmapArgs),
    /// Take over sites whose virtual hosts were written by hand
    Adopt(AdoptArgs),
    /// Give a site another name
    Rename(RenameArgs),
    /// Have a site serve another folder, or the one that its own was moved to
    Move(MoveArgs),
    /// Print the variables of a site for a shell or a file
    Env(EnvArgs),
    /// Give the application behind a site its new address
    Readdress(ReaddressArgs),
    /// Show, make, import, export or drop the database of a site
    Database(DatabaseArgs),
    /// Take sites out of use, and keep all that belongs to them
    Disable(DisableArgs),
    /// Bring sites back into use
    Enable(DisableArgs),
    /// List the sites and their status
    Sites,
    /// Open a site in the default browser
    Open(OpenArgs),
    /// Prove that sites resolve and serve over HTTPS, or explain why not
    Check(CheckArgs),
    /// Print requests and errors of a site as they come
    Logs(LogsArgs),
    /// Show which programs listen on the ports of your sites
    Ports,
    /// Undo the last change, or a named one
    Undo(UndoArgs),
    /// List the changes so far, or restore a file to its original
    History(HistoryArgs),
    /// Apply the site list to the machine
    Settle(SettleArgs),
    /// Take everything of yandro's away, and prove that nothing is left
    Uninstall(UninstallArgs),
    /// List, test, reload, start and stop web servers, or add one
    Servers(ServersArgs),
    /// List every virtual host of the web servers with its file and line
    Vhosts,
    /// List, check and edit the hosts file
    Hosts(HostsArgs),
    /// Show, issue, sign and renew certificates
    Cert(CertArgs),
    /// Show, trust and change the local certificate authority
    Authority(AuthorityArgs),
    /// Write a site as a folder for a container image
    Pack(PackArgs),
    /// Run the built-in web server
    Serve(ServeArgs),
    /// Lend a site to a phone or a colleague on the same network, for a while
    Lend(LendArgs),
    /// Do single steps as root for a yandro that may not
    #[command(hide = true)]
    Privileged {
        /// On Windows: the name of the pipe to speak through
        #[arg(long)]
        pipe: Option<String>,
    },
    /// Run a program as the user who called sudo
    #[command(hide = true)]
    AsCaller {
        /// The program and its arguments
        #[arg(trailing_var_arg = true, required = true)]
        program: Vec<std::ffi::OsString>,
    },
    /// Show an example in a temporary folder, without root or a web server
    Demo(DemoArgs),
    /// Print shell completions, or write manual pages
    Setup(SetupArgs),
    /// Print the help of a command, the global options, or what a report of a problem needs
    Help {
        /// Command, `options` or `support`
        #[arg(value_name = "COMMAND")]
        topic: Vec<String>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// Number of the change, from `yandro history` [default: the last one]
    pub(crate) id: Option<u64>,
}

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct HistoryArgs {
    #[command(subcommand)]
    pub(crate) command: Option<HistoryCommand>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum HistoryCommand {
    /// List the files whose originals are kept
    Originals,
    /// Restore FILE as it was before yandro's first change
    Restore {
        /// Absolute path of the file
        file: Utf8PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct HostsArgs {
    #[command(subcommand)]
    pub(crate) command: HostsCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum HostsCommand {
    /// List all entries, their owners, and which ones have no effect
    List,
    /// Find lines that don't do what they seem to do
    Lint {
        /// Fix what is safe to fix
        #[arg(long, alias = "mend")]
        fix: bool,
    },
    /// Point a name that is not a site to an address
    Point {
        /// Host name
        name: String,
        /// IPv4 or IPv6 address
        address: IpAddr,
    },
    /// Remove names that are not sites
    Drop {
        /// Host names
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
    },
    /// Print the names as hosts lines, or as a DNS zone
    Export(ExportArgs),
    /// Add the entries of another hosts file
    Import {
        /// Hosts file to read
        file: Utf8PathBuf,
        /// Change lines that point the same names to other addresses
        #[arg(long)]
        replace: bool,
        /// Don't ask before hiding names that may exist on the internet
        #[arg(long)]
        hide_real: bool,
    },
    /// Restore the hosts file as it was before yandro's first change
    Restore,
}

#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// Output format
    #[arg(long, value_enum, default_value_t = ExportFormat::Hosts)]
    pub(crate) format: ExportFormat,
    /// Name of the zone [default: the longest suffix that all names share]
    #[arg(long, value_name = "NAME")]
    pub(crate) zone: Option<String>,
    /// Write this address instead of loopback addresses
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// Include all lines, not only those of sites
    #[arg(long)]
    pub(crate) all: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportFormat {
    /// Lines of a hosts file
    Hosts,
    /// A DNS zone file (RFC 1035)
    Zone,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ShellArg {
    /// A POSIX shell: eval "$(yandro cert env NAME)"
    Sh,
    /// fish
    Fish,
    /// PowerShell
    Powershell,
    /// A .env file
    Dotenv,
    /// A Dockerfile
    Dockerfile,
}

impl From<ShellArg> for Shell {
    fn from(arg: ShellArg) -> Self {
        match arg {
            ShellArg::Sh => Self::Sh,
            ShellArg::Fish => Self::Fish,
            ShellArg::Powershell => Self::PowerShell,
            ShellArg::Dotenv => Self::Dotenv,
            ShellArg::Dockerfile => Self::Dockerfile,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct PackArgs {
    /// Name of the site
    #[arg(add = ArgValueCandidates::new(complete::sites))]
    pub(crate) name: String,
    /// Folder to create
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Utf8PathBuf,
    /// Web server in the image [default: the site's own, or nginx]
    #[arg(long, value_parser = servers::server_kind())]
    pub(crate) kind: Option<ServerKind>,
    /// Publish the container's port THERE as HERE on this machine (repeatable).
    /// Without it both are the same
    #[arg(long = "port", value_name = "HERE:THERE")]
    pub(crate) ports: Vec<String>,
}

#[derive(Debug, Default, Args)]
pub(crate) struct ServeArgs {
    /// Listen on this address too (repeatable). By default only on loopback.
    /// Others on your network can then see your sites
    #[arg(long = "listen", value_name = "IP")]
    pub(crate) addresses: Vec<IpAddr>,
    /// Serve no pages, and resolve the names below sites that were mapped with `--tenants`
    #[arg(long, conflicts_with = "addresses")]
    pub(crate) names: bool,
    /// Keep it running as a service of this system, from now on
    #[arg(long, conflicts_with = "log")]
    pub(crate) install: bool,
    /// Stop and remove that service
    #[arg(long, conflicts_with_all = ["install", "addresses", "log"])]
    pub(crate) remove: bool,
    /// Write messages into FILE; beyond 1 MB it becomes FILE.1
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<Utf8PathBuf>,
    /// Keep the server running in the background
    #[arg(long, hide = true)]
    pub(crate) keep: bool,
    /// End when nothing keeps this server running any more
    #[arg(long, hide = true)]
    pub(crate) kept: bool,
}

#[derive(Debug, Args)]
pub(crate) struct LendArgs {
    /// Name of the site
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(complete::sites))]
    pub(crate) name: String,
    /// End after so many minutes
    #[arg(long, value_name = "N", default_value_t = 60, value_parser = clap::value_parser!(u16).range(1..=1440))]
    pub(crate) minutes: u16,
    /// Word for the site on the network: `ferries` for ferries.local [default: from its name]
    #[arg(long, value_name = "WORD")]
    pub(crate) called: Option<String>,
    /// Host name that the application is asked for [default: the site's own]
    #[arg(long = "as", value_name = "HOST")]
    pub(crate) host: Option<String>,
    /// Address of this computer to lend it at, if there are several
    #[arg(long, value_name = "IP")]
    pub(crate) listen: Option<IpAddr>,
    /// Port [default: 443, 8443, or one that is free]
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
}

#[derive(Debug, Args)]
pub(crate) struct SetupArgs {
    #[command(subcommand)]
    pub(crate) command: SetupCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SetupCommand {
    /// Print the completion script for a shell
    Completions {
        /// Shell
        #[arg(value_parser = clap::builder::PossibleValuesParser::new(complete::shells()))]
        shell: String,
    },
    /// Let yandro listen on ports below 1024 without root, such as 80 and 443 (Linux, once, through sudo)
    Ports {
        /// Take that right away again
        #[arg(long)]
        remove: bool,
    },
    /// Write a manual page for each command
    Man {
        /// Folder for the pages, such as ~/.local/share/man/man1
        #[arg(long, value_name = "DIR")]
        out: Utf8PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Keep the folder and print its path
    #[arg(long)]
    pub(crate) keep: bool,
}
