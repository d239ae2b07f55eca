//! The arguments of `yandro map`.

use std::ffi::OsString;
use std::net::IpAddr;

use super::NewDatabaseArgs;
use crate::complete;
use camino::{Utf8Path, Utf8PathBuf};
use clap::builder::{PossibleValue, PossibleValuesParser};
use clap::{Arg, ArgAction, ArgMatches, Args, FromArgMatches, ValueEnum};
use clap_complete::ArgValueCandidates;
use yandro_core::{Group, Https, OPTIONS, SiteOption, ValueForm};

#[derive(Debug, Args)]
pub(crate) struct MapArgs {
    /// Host name, such as saltmarsh.test [default: the sites of this folder's yandro.toml]
    #[arg(add = ArgValueCandidates::new(complete::sites))]
    pub(crate) name: Option<String>,
    /// Project folder, or a running server as :PORT, HOST:PORT, http://HOST:PORT or https://HOST:PORT
    /// [default: the site's own, or the current folder]
    #[arg(value_name = "FOLDER")]
    pub(crate) target: Option<String>,
    /// With three names or more: map each to the folder of that name
    #[arg(value_name = "NAMES")]
    pub(crate) more: Vec<String>,
    /// Map each folder in DIR to its own name, once you agreed to the list
    #[arg(long, value_name = "DIR", conflicts_with = "name")]
    pub(crate) each: Option<Utf8PathBuf>,
    /// With `--each`: leave this folder out (repeatable)
    #[arg(long, value_name = "FOLDER", requires = "each")]
    pub(crate) except: Vec<String>,
    /// With `--each`: the domain that the names are below
    #[arg(long, value_name = "DOMAIN", requires = "each", default_value = "test")]
    pub(crate) below: String,
    /// Add another name for the site (repeatable)
    #[arg(long = "alias", value_name = "NAME")]
    pub(crate) aliases: Vec<String>,
    /// Remove an alias (repeatable). Without a name: remove all of them
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = "")]
    pub(crate) no_alias: Vec<String>,
    /// Subfolder to serve, such as public
    #[arg(long, value_name = "PATH")]
    pub(crate) document_root: Option<Utf8PathBuf>,
    /// Web server: `apache`, `nginx`, `built-in`, one that you added (`yandro servers`),
    /// or `elsewhere` for one that yandro doesn't configure
    #[arg(long, value_name = "WHICH", add = ArgValueCandidates::new(complete::servers))]
    pub(crate) server: Option<String>,
    /// Protocols that the site answers on
    #[arg(long, value_enum, value_name = "WHICH")]
    pub(crate) https: Option<HttpsArg>,
    /// Plain HTTP only, the same as `--https off`
    #[arg(long, conflicts_with = "https")]
    pub(crate) plain: bool,
    /// Don't ask before hiding a name that may exist on the internet
    #[arg(long)]
    pub(crate) hide_real: bool,
    /// Don't ask before serving a home folder, a system folder or another project's
    #[arg(long)]
    pub(crate) any_folder: bool,
    /// Address that the name points to, such as a virtual machine's [default: 127.0.0.1]
    #[arg(long, value_name = "IP")]
    pub(crate) address: Option<IpAddr>,
    /// Don't ask before mapping what this folder's yandro.toml asks for, or what `--each` found; nor before writing a new
    /// database into the project's configuration, what `--readdress` changes, and running the site's steps
    #[arg(long)]
    pub(crate) accept: bool,
    /// Comment out your own hosts lines for these names. `yandro unmap` restores them
    #[arg(long)]
    pub(crate) take_over: bool,
    /// For `--tenants`: put yandro's responder before your name servers in /etc/resolv.conf, where no other part of the
    /// system can be told of it
    #[arg(long)]
    pub(crate) name_servers: bool,
    /// Create the folder, the document root and a starter page if they are missing
    #[arg(long)]
    pub(crate) create: bool,
    /// Give the server's user access to the document root
    #[arg(long)]
    pub(crate) fix_permissions: bool,
    /// Make a database for the site, with an account that may use only it: `mysql` (also for MariaDB), `postgresql` or
    /// `sqlite`, and a name if it isn't the site's [default: the kind that the project's configuration names]
    #[arg(
        long,
        value_name = "KIND:NAME",
        num_args = 0..=1,
        default_missing_value = "",
        requires = "name",
        help_heading = "Options for the application"
    )]
    pub(crate) database: Option<String>,
    #[command(flatten, next_help_heading = "Options for the application")]
    pub(crate) new_database: NewDatabaseArgs,
    /// Then write the site's address in the place of this old one, into files and database (repeatable)
    #[arg(long, value_name = "ADDRESS", requires = "name", help_heading = "Options for the application")]
    pub(crate) readdress: Vec<String>,
    /// Don't run the steps that the site list or the project file has for the site
    #[arg(long, help_heading = "Options for the application")]
    pub(crate) no_steps: bool,
    #[command(flatten)]
    pub(crate) options: OptionArgs,
}

/// The options of a site that have a row in the core's table: each is an argument. What is not given stays as it is.
#[derive(Debug, Default)]
pub(crate) struct OptionArgs(pub(crate) Vec<(&'static SiteOption, Vec<String>)>);

impl Args for OptionArgs {
    fn augment_args(command: clap::Command) -> clap::Command {
        OPTIONS.iter().filter_map(argument).fold(command, clap::Command::arg)
    }

    fn augment_args_for_update(command: clap::Command) -> clap::Command {
        Self::augment_args(command)
    }
}

impl FromArgMatches for OptionArgs {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let given = |option: &'static SiteOption| {
            option.argument?;
            let values: Vec<String> = match option.form {
                ValueForm::Ports => matches.get_many::<u16>(option.key)?.map(u16::to_string).collect(),
                _ => matches.get_many::<String>(option.key)?.cloned().collect(),
            };
            Some((option, values))
        };
        Ok(Self(OPTIONS.iter().filter_map(given).collect()))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}

/// An option as clap has it.
fn argument(option: &'static SiteOption) -> Option<Arg> {
    let known = option.argument?;
    let heading = match known.group {
        Group::Certificate => "Options for the certificate",
        Group::Serving => "Options for Apache httpd and nginx",
    };
    let arg = Arg::new(option.key).long(known.name).value_name(known.value).help(known.help).help_heading(heading);
    let words = option.words().iter().map(|(word, meaning)| PossibleValue::new(*word).help(*meaning));
    Some(match option.form {
        // `--tenants` alone says what is meant.
        ValueForm::Flag if known.name == "tenants" => arg
            .value_parser(PossibleValuesParser::new(words))
            .num_args(0..=1)
            .default_missing_value("on")
            .require_equals(true),
        ValueForm::Flag | ValueForm::Word(_) => arg.value_parser(PossibleValuesParser::new(words)),
        ValueForm::Ports => arg.value_parser(clap::value_parser!(u16).range(1..)).action(ArgAction::Append),
        ValueForm::Texts => arg.action(ArgAction::Append),
        ValueForm::Text if known.may_be_found => arg.num_args(0..=1).default_missing_value("").require_equals(true),
        ValueForm::Text | ValueForm::Number => arg,
    })
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum HttpsArg {
    /// HTTPS, and a redirect from HTTP (the default)
    Only,
    /// Both, without a redirect
    Both,
    /// Only HTTP
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

/// Whether a word is a version of PHP, such as `8.2`.
pub(crate) fn is_php_version(word: &str) -> bool {
    let is_number = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    word.split_once('.').is_some_and(|(major, minor)| is_number(major) && is_number(minor))
}

/// Whether a word after an option whose value may be left out can only be its value: it is neither a host name nor
/// written as a folder.
fn is_value_of(option: &str, word: &str) -> bool {
    match option {
        "--php" => word == "off" || is_php_version(word) || is_socket(word),
        "--tenants" => matches!(word, "on" | "off"),
        _ => false,
    }
}

/// Whether a word is an absolute path as sockets have.
fn is_socket(word: &str) -> bool {
    let path = Utf8Path::new(word);
    path.is_absolute() && path.extension() == Some("sock")
}

/// The command line with `--php 8.2` as `--php=8.2`. The value of such an option may be left out, so no other word
/// behind it is its value.
pub(crate) fn with_values_joined(arguments: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut out: Vec<OsString> = Vec::new();
    for argument in arguments {
        let word = argument.to_str();
        match (out.last_mut(), word) {
            (Some(last), Some(word)) if last.to_str().is_some_and(|option| is_value_of(option, word)) => {
                last.push(format!("={word}"));
            }
            _ => out.push(argument),
        }
    }
    out
}
