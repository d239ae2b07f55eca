//! The arguments of `yandro cert`, and those of `yandro map` for a site's certificate.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates;

use crate::complete;
use yandro_core::KeyKind;

use super::ShellArg;

#[derive(Debug, Args)]
pub(crate) struct CertArgs {
    #[command(subcommand)]
    pub(crate) command: CertCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CertCommand {
    /// Show a certificate and what browsers would object to
    Show {
        /// Site, certificate file (PEM or DER), or `https://HOST[:PORT]`
        #[arg(add = ArgValueCandidates::new(complete::sites))]
        what: String,
        /// Print only the site's name and the paths of its files
        #[arg(long)]
        paths: bool,
        /// Test whether this key (PEM) belongs to the certificate
        #[arg(long, value_name = "FILE")]
        key: Option<Utf8PathBuf>,
    },
    /// Issue a certificate for names that are not sites
    Issue(IssueArgs),
    /// Sign a certificate signing request (PKCS#10, PEM)
    Sign {
        /// File with the request
        request: Utf8PathBuf,
        /// Days of validity, at most 825
        #[arg(long, value_name = "N", default_value_t = yandro_core::LEAF_DAYS)]
        days: i64,
        /// File to create, with the certificate and its chain
        #[arg(long, value_name = "FILE")]
        out: Utf8PathBuf,
    },
    /// Renew certificates that expire soon, and reload the servers
    Renew(RenewArgs),
    /// Print variables that give a dev server the site's certificate
    Env {
        /// Name or alias of the site
        #[arg(add = ArgValueCandidates::new(complete::sites))]
        name: String,
        /// Format of the variables
        #[arg(long, value_enum, default_value_t = ShellArg::Sh)]
        format: ShellArg,
    },
}

#[derive(Debug, Args)]
pub(crate) struct IssueArgs {
    /// Host names, or `*.NAME` for all names one level below
    #[arg(required = true, value_name = "NAME")]
    pub(crate) names: Vec<String>,
    /// IP address to cover too (repeatable)
    #[arg(long = "address", value_name = "IP")]
    pub(crate) addresses: Vec<IpAddr>,
    /// Days of validity, at most 825
    #[arg(long, value_name = "N", default_value_t = yandro_core::LEAF_DAYS)]
    pub(crate) days: i64,
    /// Type of key
    #[arg(long, value_enum, default_value_t = KeyKindArg::P256)]
    pub(crate) key_kind: KeyKindArg,
    /// Folder for `fullchain.pem` and `key.pem`
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Utf8PathBuf,
    /// Write one file `certificate.p12` instead (PKCS#12, needs `openssl`)
    #[arg(long)]
    pub(crate) p12: bool,
    /// Read its passphrase from FILE (first line)
    #[arg(long, value_name = "FILE", requires = "p12")]
    pub(crate) p12_passphrase_file: Option<Utf8PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct RenewArgs {
    /// Renew certificates that expire within N days
    #[arg(long, value_name = "N", default_value_t = yandro_core::RENEW_DAYS)]
    pub(crate) within: i64,
    /// Renew every day, by a timer of the system
    #[arg(long, conflicts_with = "remove_timer")]
    pub(crate) install_timer: bool,
    /// Remove that timer
    #[arg(long)]
    pub(crate) remove_timer: bool,
    /// Type of timer [default: the one that this system has]
    #[arg(long, value_enum, value_name = "WHICH", requires = "install_timer")]
    pub(crate) timer: Option<ManagerArg>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ManagerArg {
    /// A systemd timer: yours, or the system's if root installs it
    Systemd,
    /// A crontab line
    Cron,
    /// An agent of launchd (macOS): yours, or the system's if root installs it
    Launchd,
    /// A task of Windows's Task Scheduler
    TaskScheduler,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum KeyKindArg {
    /// ECDSA on P-256: accepted everywhere, and the fastest
    P256,
    /// ECDSA on P-384
    P384,
    /// RSA with 3,072 bits, for old clients
    Rsa3072,
}

impl From<KeyKindArg> for KeyKind {
    fn from(arg: KeyKindArg) -> Self {
        match arg {
            KeyKindArg::P256 => Self::P256,
            KeyKindArg::P384 => Self::P384,
            KeyKindArg::Rsa3072 => Self::Rsa3072,
        }
    }
}
