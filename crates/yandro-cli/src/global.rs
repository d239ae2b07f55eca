//! Options that every command takes.

use camino::Utf8PathBuf;
use clap::{Args, ValueEnum};

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct Global {
    /// Use DIR instead of / (hosts file, server files, site list, certificates)
    #[arg(long, global = true, value_name = "DIR", help_heading = "Global options", hide = true)]
    pub(crate) sysroot: Option<Utf8PathBuf>,
    /// Show what would change, but change nothing
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) preview: bool,
    /// Fail at once if another yandro is running, instead of waiting
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) no_wait: bool,
    /// Read the passphrase of the authority's key from FILE (first line)
    #[arg(long, global = true, value_name = "FILE", help_heading = "Global options", hide = true)]
    pub(crate) passphrase_file: Option<Utf8PathBuf>,
    /// Print JSON
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) json: bool,
    /// Print only errors and findings
    #[arg(long, short, global = true, help_heading = "Global options", hide = true)]
    pub(crate) quiet: bool,
    /// Print more details (-vv: also programs that are run, files read and written)
    #[arg(long, short, global = true, action = clap::ArgAction::Count, help_heading = "Global options", hide = true)]
    pub(crate) verbose: u8,
    /// Print plain lines, as into a pipe: no colours, links or progress
    #[arg(long, global = true, help_heading = "Global options", hide = true)]
    pub(crate) plain_output: bool,
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
