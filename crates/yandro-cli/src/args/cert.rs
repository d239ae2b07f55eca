//! The arguments of `yandro cert`, and those of `yandro map` for a site's certificate.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::{Args, Subcommand, ValueEnum};
use yandro_core::KeyKind;

use super::ShellArg;

#[derive(Debug, Args)]
pub(crate) struct CertArgs {
    #[command(subcommand)]
    pub(crate) command: CertCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CertCommand {
    /// Show what a certificate covers, how long it lasts, and what browsers would object to in it
    Show {
        /// A site's name or alias, any certificate file (PEM or DER), or `https://HOST[:PORT]` for
        /// the one that is served there
        what: String,
        /// Of a site: the host name and the paths alone
        #[arg(long)]
        paths: bool,
        /// See whether this key, in PEM, is the certificate's
        #[arg(long, value_name = "FILE")]
        key: Option<Utf8PathBuf>,
    },
    /// Issue a certificate for names that are no sites, into a folder
    Issue(IssueArgs),
    /// Sign a certificate signing request (PKCS#10, PEM) under the same policy
    Sign {
        /// The file with the request
        request: Utf8PathBuf,
        /// How many days it is valid, 825 at most
        #[arg(long, value_name = "N", default_value_t = yandro_core::LEAF_DAYS)]
        days: i64,
        /// The file that takes the certificate with its chain
        #[arg(long, value_name = "FILE")]
        out: Utf8PathBuf,
    },
    /// Make certificates anew that end soon, and have the servers take them up
    Renew(RenewArgs),
    /// Print the variables by which dev servers that speak TLS themselves take a site's certificate
    Env {
        /// The site's name, or an alias of it
        name: String,
        /// In whose words
        #[arg(long, value_enum, default_value_t = ShellArg::Sh)]
        format: ShellArg,
    },
}

#[derive(Debug, Args)]
pub(crate) struct IssueArgs {
    /// The names; `*.NAME` for all with one label more
    #[arg(required = true, value_name = "NAME")]
    pub(crate) names: Vec<String>,
    /// An address that it covers, too; give it once for each
    #[arg(long = "address", value_name = "IP")]
    pub(crate) addresses: Vec<IpAddr>,
    /// How many days it is valid, 825 at most
    #[arg(long, value_name = "N", default_value_t = yandro_core::LEAF_DAYS)]
    pub(crate) days: i64,
    /// The kind of its key
    #[arg(long, value_enum, default_value_t = KeyKindArg::P256)]
    pub(crate) key_kind: KeyKindArg,
    /// The folder that takes `fullchain.pem` and `key.pem`
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Utf8PathBuf,
    /// Put certificate, chain and key into one file `certificate.p12` instead (PKCS#12; takes the program `openssl`)
    #[arg(long)]
    pub(crate) p12: bool,
    /// A file whose first line is the passphrase for it, instead of being asked
    #[arg(long, value_name = "FILE", requires = "p12")]
    pub(crate) p12_passphrase_file: Option<Utf8PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct RenewArgs {
    /// Those that end within so many days
    #[arg(long, value_name = "N", default_value_t = yandro_core::RENEW_DAYS)]
    pub(crate) within: i64,
    /// Have it done every day: by a timer of systemd, or by cron where there is none
    #[arg(long, conflicts_with = "remove_timer")]
    pub(crate) install_timer: bool,
    /// Take that timer away
    #[arg(long)]
    pub(crate) remove_timer: bool,
    /// Which timer; without it the one that this system has
    #[arg(long, value_enum, value_name = "WHICH", requires = "install_timer")]
    pub(crate) timer: Option<TimerArg>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum TimerArg {
    /// A timer unit of systemd: yours, or root's if root installs it
    Systemd,
    /// A line of cron
    Cron,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum KeyKindArg {
    /// ECDSA on P-256: what everything takes, and the quickest
    P256,
    /// ECDSA on P-384
    P384,
    /// RSA with 3,072 bits, for what is too old for the others
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
