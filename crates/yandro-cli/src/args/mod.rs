//! Arguments, as text that is checked for its form alone.

mod authority;
mod cert;
mod map;
mod servers;

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Parser, Subcommand, ValueEnum};
use yandro_core::{ServerKind, Shell};

pub(crate) use authority::{AuthorityArgs, AuthorityCommand, RootFormat, StoresArg};
pub(crate) use cert::{CertArgs, CertCommand, IssueArgs, RenewArgs, TimerArg};
pub(crate) use map::MapArgs;
pub(crate) use servers::{ServerAddArgs, ServersArgs, ServersCommand};

/// From a project folder to a proven <https://name> on your own machine.
///
/// `yandro map NAME FOLDER` writes the hosts entry, the virtual host and the
/// certificate, reloads the web server, and proves that the name is answered from
/// that folder over HTTPS. Try it without changing anything: `yandro demo`.
#[derive(Debug, Parser)]
#[command(name = "yandro", version, disable_help_subcommand = true, after_help = EXIT_STATUS)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

const EXIT_STATUS: &str = "Options of every command: yandro help options

Exit status:
  0  all is well
  1  there are findings
  2  wrong usage or bad input; nothing was changed
  3  the change could not be made; everything is as it was
  4  something could not be put back; the message says what to do
  5  all is done, but standard output could not be written";

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct Global {
    /// Work below DIR instead of / (hosts file, server files, site list, certificates)
    #[arg(long, global = true, value_name = "DIR", help_heading = "Global options", hide = true)]
    pub(crate) sysroot: Option<Utf8PathBuf>,
    /// Show what would change, and change nothing
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) preview: bool,
    /// Fail at once when another yandro is at work, instead of waiting
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) no_wait: bool,
    /// A file whose first line is the passphrase of the authority's key, instead of being asked
    #[arg(long, global = true, value_name = "FILE", help_heading = "Global options", hide = true)]
    pub(crate) passphrase_file: Option<Utf8PathBuf>,
    /// Print JSON for programs
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) json: bool,
    /// Print nothing but errors and findings
    #[arg(long, short, global = true, help_heading = "Global options", hide = true)]
    pub(crate) quiet: bool,
    /// Print more: evidence and times
    #[arg(long, short, global = true, help_heading = "Global options", hide = true)]
    pub(crate) verbose: bool,
    /// When to use colour
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, value_name = "WHEN", help_heading = "Global options", hide = true)]
    pub(crate) color: Color,
}

/// When to use colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Map a name to a folder or an upstream and bring it up
    Map(Box<MapArgs>),
    /// Take sites away from everywhere they were written
    Unmap(UnmapArgs),
    /// List the sites and how each stands
    Sites,
    /// Prove that sites resolve and serve over HTTPS; explain what does not
    Check(CheckArgs),
    /// Show who has the ports of your sites, and whether that is as it should be
    Ports,
    /// Take the last change back, or a named one
    Undo(UndoArgs),
    /// Show the changes so far, or bring back a file as it was before the first of them
    History(HistoryArgs),
    /// Bring the machine in line with the site list
    Settle(SettleArgs),
    /// Show the web servers; test, reload, start and stop them; name one that can't be found
    Servers(ServersArgs),
    /// List every virtual host of the web servers, yandro's or not, with its place
    Vhosts,
    /// Work on the hosts file itself
    Hosts(HostsArgs),
    /// Show any certificate, and what is wrong with it; issue, sign and renew; for dev servers
    Cert(CertArgs),
    /// Show the local authority and who trusts it; trust, distrust, widen, replace, guard, export it
    Authority(AuthorityArgs),
    /// Pack a site for a container image: virtual host, certificate, key, files, and what builds it
    Pack(PackArgs),
    /// Run the built-in server for all sites of the list
    Serve(ServeArgs),
    /// Do single steps as root for a yandro that may not
    #[command(hide = true)]
    Privileged,
    /// Run a program as the user who called sudo
    #[command(hide = true)]
    AsCaller {
        /// The program and its arguments
        #[arg(trailing_var_arg = true, required = true)]
        program: Vec<std::ffi::OsString>,
    },
    /// Show a whole example in a temporary folder: no root and no server needed
    Demo(DemoArgs),
    /// Print completions for a shell, or write the manual pages
    Setup(SetupArgs),
    /// Print the help of a command, or of the options that every command takes
    Help {
        /// The command's words, or `options`
        #[arg(value_name = "COMMAND")]
        topic: Vec<String>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct UnmapArgs {
    /// The sites' names
    #[arg(required = true, value_name = "NAME")]
    pub(crate) names: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// The sites to check, by name or alias; without any, all of them
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<String>,
    /// Carry out the remedies that are safe, as one change, and look again
    #[arg(long, alias = "mend")]
    pub(crate) fix: bool,
    /// How long to wait for any one answer, in seconds
    #[arg(long, value_name = "SECONDS", default_value = "5", value_parser = clap::value_parser!(u16).range(1..=600))]
    pub(crate) timeout: u16,
    /// Look again whenever a file changes, and every two seconds
    #[arg(long, conflicts_with_all = ["fix", "report", "junit"])]
    pub(crate) watch: bool,
    /// Write what was seen as one page for a browser
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Option<Utf8PathBuf>,
    /// Write what was seen as XML in the form that build servers read
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<Utf8PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct SettleArgs {
    /// Put back what was edited by hand in the lines that yandro wrote for this site; lines that
    /// were added stay, and `yandro undo` brings the edits back. Give it once for each site
    #[arg(long, value_name = "NAME")]
    pub(crate) put_back: Vec<String>,
    /// Remove sites that are no longer in the site list without asking
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// Number of the change, as `yandro history` shows it; without it the last one
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
    /// List the files of which the original is kept, as it was before the first change
    Originals,
    /// Bring FILE back as it was before the first change
    Restore {
        /// The file, by its absolute path
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
    /// List all entries, whose they are, and which are shadowed
    List,
    /// Find what doesn't do what it seems to
    Lint {
        /// Fix what can be fixed without asking
        #[arg(long, alias = "mend")]
        fix: bool,
    },
    /// Point a name that is no site to an address
    Point {
        /// The name
        name: String,
        /// The address, IPv4 or IPv6
        address: IpAddr,
    },
    /// Take names that are no sites out
    Drop {
        /// The names
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
    },
    /// Print the names for others: as hosts lines, or as a zone for a DNS server
    Export(ExportArgs),
    /// Take in the entries of another hosts file
    Import {
        /// The file
        file: Utf8PathBuf,
        /// Change lines that say something else
        #[arg(long)]
        replace: bool,
        /// Take names that somebody on the internet may own, without being asked
        #[arg(long)]
        hide_real: bool,
    },
    /// Bring the hosts file back as it was before yandro's first change
    Restore,
}

#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// The form of it
    #[arg(long, value_enum, default_value_t = ExportFormat::Hosts)]
    pub(crate) format: ExportFormat,
    /// The zone's name; without it the longest suffix that all names share
    #[arg(long, value_name = "NAME")]
    pub(crate) zone: Option<String>,
    /// Put this address in the place of this machine's loopback addresses
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// The names of all lines, not of the sites alone
    #[arg(long)]
    pub(crate) all: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportFormat {
    /// Lines of a hosts file
    Hosts,
    /// A zone in the form of RFC 1035, as DNS servers load it
    Zone,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ShellArg {
    /// A shell of the POSIX family: eval "$(yandro cert env NAME)"
    Sh,
    /// fish
    Fish,
    /// PowerShell
    Powershell,
    /// NAME="value" lines, as projects keep them in a file
    Dotenv,
    /// Lines of a Dockerfile
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
    /// The site's name
    pub(crate) name: String,
    /// The folder that is made
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Utf8PathBuf,
    /// The kind of server in the image; without it the site's own, or nginx
    #[arg(long, value_parser = servers::server_kind())]
    pub(crate) kind: Option<ServerKind>,
    /// A port of this machine, and the container's that is published there; give it once for each.
    /// Without any they are the same
    #[arg(long = "port", value_name = "HERE:THERE")]
    pub(crate) ports: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct ServeArgs {
    /// Listen on this address, too; without it on loopback alone. Others on your network
    /// can then see your sites
    #[arg(long = "listen", value_name = "IP")]
    pub(crate) addresses: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct SetupArgs {
    #[command(subcommand)]
    pub(crate) command: SetupCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SetupCommand {
    /// Print a script that completes commands and options
    Completions {
        /// The shell that reads the script
        shell: clap_complete::Shell,
    },
    /// Write a manual page for each command
    Man {
        /// The folder for the pages, such as ~/.local/share/man/man1
        #[arg(long, value_name = "DIR")]
        out: Utf8PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Keep the folder, and say where it is
    #[arg(long)]
    pub(crate) keep: bool,
}
