//! The arguments of `yandro map`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, ValueEnum};
use yandro_core::site::Https;

use super::TermsArgs;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  yandro map saltmarsh.test ./saltmarsh
  yandro map depot.saltmarsh.test ./depot --document-root public --alias handbook.saltmarsh.test
  yandro map booking.saltmarsh.test http://127.0.0.1:3000
  yandro map booking.saltmarsh.test https://127.0.0.1:5173   (it speaks TLS itself, at its own port)
  yandro map crew.saltmarsh.test ./crew --address 192.168.56.10   (a virtual machine serves it)
  yandro map saltmarsh.test --preview")]
pub(crate) struct MapArgs {
    /// The site's name, such as saltmarsh.test
    pub(crate) name: String,
    /// The project's folder, or the upstream as http://HOST:PORT, as https://HOST:PORT if it speaks
    /// TLS itself; without it the site's own, or for a new site the current folder
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
    /// The web server that serves it: `apache`, `nginx`, `built-in`, one that you named
    /// (`yandro servers`), or `elsewhere` for one that yandro doesn't configure
    #[arg(long, value_name = "WHICH")]
    pub(crate) server: Option<String>,
    /// Over which protocols the site answers
    #[arg(long, value_enum, value_name = "WHICH")]
    pub(crate) https: Option<HttpsArg>,
    /// Plain HTTP alone, without a certificate: `--https off`
    #[arg(long, conflicts_with = "https")]
    pub(crate) plain: bool,
    /// Map the name though somebody on the internet may own it, without being asked
    #[arg(long)]
    pub(crate) hide_real: bool,
    /// Serve a folder outside the project, a home folder or one of the system, without being asked
    #[arg(long)]
    pub(crate) any_folder: bool,
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
    pub(crate) certificate: TermsArgs,
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
    /// Answer this computer only, and nobody else in its network (on for a new site at a loopback
    /// address, unless its server is in a container or a virtual machine)
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) only_here: Option<OnOff>,
    /// List folders that have no index (on unless said)
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) listing: Option<OnOff>,
    /// Obey override files, `.htaccess` (on unless said); only Apache httpd has them
    #[arg(long, value_enum, value_name = "WHICH")]
    pub(crate) overrides: Option<OverridesArg>,
    /// Follow symbolic links (on unless said)
    #[arg(long, value_enum, value_name = "WHETHER")]
    pub(crate) symlinks: Option<SymlinksArg>,
    /// The host that an upstream is asked for: the site's (as it is unless said), or the upstream's
    /// own, for one that refuses other names
    #[arg(long, value_enum, value_name = "WHOSE")]
    pub(crate) upstream_host: Option<UpstreamHostArg>,
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
    pub(crate) fn given(&self) -> impl Iterator<Item = &'static str> {
        let given = [
            ("--http-port", !self.http_ports.is_empty()),
            ("--https-port", !self.https_ports.is_empty()),
            ("--by-address", self.by_address.is_some()),
            ("--listing", self.listing.is_some()),
            ("--only-here", self.only_here.is_some()),
            ("--overrides", self.overrides.is_some()),
            ("--symlinks", self.symlinks.is_some()),
            ("--upstream-host", self.upstream_host.is_some()),
            ("--index", !self.index.is_empty()),
            ("--fallback", self.fallback.is_some()),
            ("--php", self.php.is_some()),
            ("--extra", self.extra.is_some()),
            ("--logs", self.logs.is_some()),
        ];
        given.into_iter().filter_map(|(option, is_given)| is_given.then_some(option))
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
pub(crate) enum OverridesArg {
    /// Yes; of a site without PHP no lines that can run programs, such as `SetHandler`
    On,
    /// Every line
    All,
    /// No
    Off,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum UpstreamHostArg {
    /// The site's name
    Site,
    /// The upstream's own host and port
    Own,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SymlinksArg {
    /// All of them; the built-in server stays within the project's folder
    On,
    /// All of them, wherever they lead
    Anywhere,
    /// Those whose target has the same owner
    Owner,
    /// None
    Off,
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
