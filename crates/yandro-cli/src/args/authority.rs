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
    /// Show the root certificate, what it can issue for, and who trusts it
    Show,
    /// Add the root certificate to the trust stores
    Trust {
        /// Trust stores to change
        #[arg(long, value_enum, default_value_t = StoresArg::All)]
        store: StoresArg,
    },
    /// Remove the root certificate from the trust stores
    Distrust {
        /// Trust stores to change
        #[arg(long, value_enum, default_value_t = StoresArg::All)]
        store: StoresArg,
    },
    /// Allow further suffixes or networks, with a new root certificate
    #[command(after_help = WIDER)]
    Widen {
        /// Suffix to allow, such as saltmarsh.example.com (all names below it too)
        #[arg(value_name = "SUFFIX", required_unless_present = "networks")]
        suffixes: Vec<String>,
        /// Network to allow, such as 192.168.0.0/16 (repeatable)
        #[arg(long = "network", value_name = "NETWORK")]
        networks: Vec<String>,
    },
    /// Remove suffixes or networks that were allowed, with a new root certificate
    Narrow {
        /// Suffixes to remove
        #[arg(value_name = "SUFFIX", required_unless_present = "networks")]
        suffixes: Vec<String>,
        /// Network to remove (repeatable)
        #[arg(long = "network", value_name = "NETWORK")]
        networks: Vec<String>,
    },
    /// Replace the authority, for example after its key was exposed
    Replace,
    /// Encrypt the authority's key with a passphrase, or decrypt it
    Passphrase {
        /// Store the key unencrypted again
        #[arg(long, conflicts_with = "new_passphrase_file")]
        remove: bool,
        /// Read the new passphrase from FILE (first line)
        #[arg(long, value_name = "FILE")]
        new_passphrase_file: Option<Utf8PathBuf>,
    },
    /// Print variables that make Node, Python, Java and others trust it
    Env {
        /// Format of the variables
        #[arg(long, value_enum, default_value_t = ShellArg::Sh)]
        format: ShellArg,
    },
    /// Write the root certificate for import on other systems
    Export {
        /// File format
        #[arg(long, value_enum, default_value_t = RootFormat::Pem)]
        format: RootFormat,
        /// File to create [default: print it]
        #[arg(long, value_name = "FILE", conflicts_with = "to_device")]
        out: Option<Utf8PathBuf>,
        /// Offer it to a phone on your network, on a page with instructions
        #[arg(long, conflicts_with = "format")]
        to_device: bool,
        /// Address of this machine to offer the page at, if it has several
        #[arg(long, value_name = "IP", requires = "to_device")]
        listen: Option<IpAddr>,
        /// Minutes until the page is closed
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
    /// Chromium and every Firefox profile
    Browsers,
    /// Java runtimes that the system doesn't manage
    Java,
}
