//! The arguments of `yandro authority`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Subcommand, ValueEnum};

use super::ShellArg;

#[derive(Debug, Args)]
pub(crate) struct AuthorityArgs {
    #[command(subcommand)]
    pub(crate) command: AuthorityCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuthorityCommand {
    /// Show the authority's root certificate, what it may vouch for, and who trusts it
    Show,
    /// Have the system, your browsers and Java trust the authority
    Trust {
        /// Which of the trust stores
        #[arg(long, value_enum, default_value_t = StoresArg::All)]
        store: StoresArg,
    },
    /// Take the authority out of the trust stores, and the roots of earlier ones with it
    Distrust {
        /// Which of the trust stores
        #[arg(long, value_enum, default_value_t = StoresArg::All)]
        store: StoresArg,
    },
    /// Let it vouch for names below further suffixes: a new authority in the place of this one
    #[command(after_help = WIDER)]
    Widen {
        /// A suffix, such as saltmarsh.example.com: the name itself and all names below it
        #[arg(value_name = "SUFFIX", required_unless_present = "networks")]
        suffixes: Vec<String>,
        /// A network of addresses, such as 192.168.0.0/16; give it once for each
        #[arg(long = "network", value_name = "NETWORK")]
        networks: Vec<String>,
    },
    /// Take suffixes back that it was widened by: a new authority in the place of this one
    Narrow {
        /// The suffixes
        #[arg(value_name = "SUFFIX", required_unless_present = "networks")]
        suffixes: Vec<String>,
        /// A network; give it once for each
        #[arg(long = "network", value_name = "NETWORK")]
        networks: Vec<String>,
    },
    /// Make a new authority in the place of this one, such as after its key was seen by others
    Replace,
    /// Keep the authority's key behind a passphrase, change it, or do without
    Passphrase {
        /// Keep the key in the clear again
        #[arg(long, conflicts_with = "new_passphrase_file")]
        remove: bool,
        /// A file whose first line is the new passphrase, instead of being asked
        #[arg(long, value_name = "FILE")]
        new_passphrase_file: Option<Utf8PathBuf>,
    },
    /// Print the variables by which runtimes with a list of their own trust the authority
    Env {
        /// In whose words
        #[arg(long, value_enum, default_value_t = ShellArg::Sh)]
        format: ShellArg,
    },
    /// Write the root certificate for others to import; never a key
    Export {
        /// The form of it
        #[arg(long, value_enum, default_value_t = RootFormat::Pem)]
        format: RootFormat,
        /// The file that is made; without it, it is printed
        #[arg(long, value_name = "FILE", conflicts_with = "to_device")]
        out: Option<Utf8PathBuf>,
        /// Offer it to a phone or another computer on your network, at a page with instructions
        #[arg(long, conflicts_with = "format")]
        to_device: bool,
        /// The address of this machine that the page is offered at, if it has several
        #[arg(long, value_name = "IP", requires = "to_device")]
        listen: Option<IpAddr>,
        /// For how many minutes the page is there
        #[arg(long, value_name = "N", default_value_t = 10, value_parser = clap::value_parser!(u16).range(1..=60), requires = "to_device")]
        minutes: u16,
    },
}

const WIDER: &str = "What a root may vouch for is written into it and can't be changed: a new root is made, every
certificate is issued anew by it, the new root goes into the trust stores where the old one is,
the old one goes out of them, and the web servers are reloaded. `yandro undo` takes all of that back.

Example:
  yandro authority widen saltmarsh.example.com --preview";

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum RootFormat {
    /// Text, as most programs take it
    Pem,
    /// Bytes, as Windows and Android take it
    Der,
    /// A bundle of certificates (PKCS#7), as Windows and Java take it
    P7b,
    /// A configuration profile of Apple's systems
    Mobileconfig,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum StoresArg {
    /// All that are found
    All,
    /// The system's own: what curl, git and most programs go by
    System,
    /// Those of Chromium and of every Firefox profile
    Browsers,
    /// Those of Java that the system doesn't keep
    Java,
}
