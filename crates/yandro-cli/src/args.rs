//! Arguments, as text that is checked for its form alone.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Parser, Subcommand, ValueEnum};
use yandro_core::site::{Https, ServerKind};

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

const EXIT_STATUS: &str = "Exit status:
  0  all is well
  1  there are findings
  2  wrong usage or bad input; nothing was changed
  3  the change could not be made; everything is as it was
  4  something could not be put back; the message says what to do";

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct Global {
    /// Work below DIR instead of / (hosts file, server files, site list, certificates)
    #[arg(long, global = true, value_name = "DIR", help_heading = "Global options")]
    pub(crate) sysroot: Option<Utf8PathBuf>,
    /// Show what would change, and change nothing
    #[arg(long, global = true, help_heading = "Global options")]
    pub(crate) preview: bool,
    /// Fail at once when another yandro is at work, instead of waiting
    #[arg(long, global = true, help_heading = "Global options")]
    pub(crate) no_wait: bool,
    /// Print JSON for programs
    #[arg(long, global = true, help_heading = "Global options")]
    pub(crate) json: bool,
    /// Print nothing but errors and findings
    #[arg(long, short, global = true, help_heading = "Global options")]
    pub(crate) quiet: bool,
    /// Print more: evidence and times
    #[arg(long, short, global = true, help_heading = "Global options")]
    pub(crate) verbose: bool,
    /// When to use colour
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, value_name = "WHEN", help_heading = "Global options")]
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
    /// Take the last change back, or a named one
    Undo(UndoArgs),
    /// Show the changes so far, or bring back a file as it was before the first of them
    History(HistoryArgs),
    /// Bring the machine in line with the site list
    Settle,
    /// Show the web servers; test, reload, start and stop them; name one that can't be found
    Servers(ServersArgs),
    /// List every virtual host of the web server, yandro's or not, with its place
    Vhosts,
    /// Work on the hosts file itself
    Hosts(HostsArgs),
    /// Show the local authority, and have the system trust it or not
    Authority(AuthorityArgs),
    /// Run the built-in server for all sites of the list
    Serve(ServeArgs),
    /// Do single steps as root for a yandro that may not
    #[command(hide = true)]
    Privileged,
    /// Show a whole example in a temporary folder: no root and no server needed
    Demo(DemoArgs),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  yandro map saltmarsh.test ./saltmarsh
  yandro map depot.saltmarsh.test ./depot --document-root public --alias handbook.saltmarsh.test
  yandro map booking.saltmarsh.test http://127.0.0.1:3000
  yandro map crew.saltmarsh.test ./crew --address 192.168.56.10   (a virtual machine serves it)
  yandro map saltmarsh.test --preview")]
pub(crate) struct MapArgs {
    /// The site's name, such as saltmarsh.test
    pub(crate) name: String,
    /// The project's folder, or the upstream as http://HOST:PORT; without it the site's
    /// own, or for a new site the current folder
    #[arg(value_name = "FOLDER")]
    pub(crate) target: Option<String>,
    /// A further name that answers alike; give it once for each. Takes the place of the
    /// aliases that the site has
    #[arg(long = "alias", value_name = "NAME")]
    pub(crate) aliases: Vec<String>,
    /// Take all aliases away
    #[arg(long, conflicts_with = "aliases")]
    pub(crate) no_alias: bool,
    /// The part of the folder that is served, such as public
    #[arg(long, value_name = "PATH")]
    pub(crate) document_root: Option<Utf8PathBuf>,
    /// The web server that serves it
    #[arg(long, value_enum)]
    pub(crate) server: Option<ServerArg>,
    /// Over which protocols the site answers
    #[arg(long, value_enum, value_name = "WHICH")]
    pub(crate) https: Option<HttpsArg>,
    /// Plain HTTP alone, without a certificate: `--https off`
    #[arg(long, conflicts_with = "https")]
    pub(crate) plain: bool,
    /// Map the name though somebody on the internet may own it, without being asked
    #[arg(long)]
    pub(crate) hide_real: bool,
    /// Where the name points to, such as the address of a virtual machine or of this machine
    /// on the network; 127.0.0.1 unless the site has another
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// Comment out your own lines of the hosts file that point the names elsewhere; they come
    /// back when the site is taken away
    #[arg(long)]
    pub(crate) take_over: bool,
    /// Make the folder and the document root if they are not there, and a starter page
    #[arg(long)]
    pub(crate) create: bool,
    /// Let the server's user pass the folders on the way to the document root that stop it
    #[arg(long)]
    pub(crate) fix_permissions: bool,
    #[command(flatten)]
    pub(crate) serving: ServingArgs,
}

/// How Apache httpd or nginx serves the site. What is not given stays as it is.
#[derive(Debug, Args)]
#[command(next_help_heading = "Options for Apache httpd and nginx")]
pub(crate) struct ServingArgs {
    /// The port for plain HTTP, in the place of 80; give it once for each
    #[arg(long = "http-port", value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) http_ports: Vec<u16>,
    /// The port for HTTPS, in the place of 443; give it once for each
    #[arg(long = "https-port", value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) https_ports: Vec<u16>,
    /// Give the site its address for itself: it answers there whatever name is asked for
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) by_address: Option<OnOff>,
    /// List folders that have no index (on unless said)
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) listing: Option<OnOff>,
    /// Obey override files, `.htaccess` (on unless said); Apache httpd alone has such
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) overrides: Option<OnOff>,
    /// Follow symbolic links (on unless said)
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) symlinks: Option<SymlinksArg>,
    /// A name that an index may have; give it once for each, the first that is there answers.
    /// `off` for the server's own
    #[arg(long, value_name = "FILE")]
    pub(crate) index: Vec<String>,
    /// What answers for paths that are no files, such as /index.php or /index.html; `off` for none
    #[arg(long, value_name = "PATH")]
    pub(crate) fallback: Option<String>,
    /// Run PHP files by php-fpm: by the socket that is found, or the one that is named (a path, or
    /// HOST:PORT); `off` for none
    #[arg(long, value_name = "SOCKET", num_args = 0..=1, default_missing_value = "", require_equals = true)]
    pub(crate) php: Option<String>,
    /// A file with further directives of yours for the site's virtual hosts; `off` for none
    #[arg(long, value_name = "FILE")]
    pub(crate) extra: Option<String>,
    /// The folder of the site's logs; `usual` for the server's own, `off` for none
    #[arg(long, value_name = "FOLDER")]
    pub(crate) logs: Option<String>,
}

impl ServingArgs {
    /// The first of these options that was given.
    pub(crate) fn first_given(&self) -> Option<&'static str> {
        let given = [
            ("--http-port", !self.http_ports.is_empty()),
            ("--https-port", !self.https_ports.is_empty()),
            ("--by-address", self.by_address.is_some()),
            ("--listing", self.listing.is_some()),
            ("--overrides", self.overrides.is_some()),
            ("--symlinks", self.symlinks.is_some()),
            ("--index", !self.index.is_empty()),
            ("--fallback", self.fallback.is_some()),
            ("--php", self.php.is_some()),
            ("--extra", self.extra.is_some()),
            ("--logs", self.logs.is_some()),
        ];
        given.into_iter().find_map(|(option, is_given)| is_given.then_some(option))
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnOff {
    /// Yes
    On,
    /// No
    Off,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SymlinksArg {
    /// All of them
    On,
    /// Those whose target has the same owner
    Owner,
    /// None
    Off,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ServerArg {
    /// Apache httpd
    Apache,
    /// nginx
    Nginx,
    /// The server that `yandro serve` runs
    BuiltIn,
    /// One that yandro doesn't configure: in a virtual machine, a container, on another machine
    Elsewhere,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum HttpsArg {
    /// HTTPS; plain HTTP leads there (as it is without this option)
    Only,
    /// Both alike
    Both,
    /// Plain HTTP alone
    Off,
}

impl From<HttpsArg> for Https {
    fn from(arg: HttpsArg) -> Self {
        match arg {
            HttpsArg::Only => Self::Only,
            HttpsArg::Both => Self::Both,
            HttpsArg::Off => Self::Off,
        }
    }
}

impl From<ServerArg> for ServerKind {
    fn from(arg: ServerArg) -> Self {
        match arg {
            ServerArg::Apache => Self::Apache,
            ServerArg::Nginx => Self::Nginx,
            ServerArg::BuiltIn => Self::BuiltIn,
            ServerArg::Elsewhere => Self::Elsewhere,
        }
    }
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
}

#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// Number of the change, as `yandro history` shows it; without it the last one
    pub(crate) id: Option<u32>,
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
        /// Mend what can be mended without asking
        #[arg(long)]
        mend: bool,
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

#[derive(Debug, Args)]
pub(crate) struct AuthorityArgs {
    #[command(subcommand)]
    pub(crate) command: AuthorityCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuthorityCommand {
    /// Show the authority's root certificate: its file, its fingerprint, what it may vouch for
    Show,
    /// Have the system trust the authority: what curl, git and most programs go by
    Trust,
    /// Take the authority out of the system's trust store
    Distrust,
}

#[derive(Debug, Args)]
pub(crate) struct ServeArgs {
    /// Listen on this address, too; without it on loopback alone. Others on your network
    /// can then see your sites
    #[arg(long = "listen", value_name = "IP")]
    pub(crate) addresses: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Keep the folder, and say where it is
    #[arg(long)]
    pub(crate) keep: bool,
}
