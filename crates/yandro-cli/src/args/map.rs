//! The arguments of `yandro map`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use clap::builder::{PossibleValue, PossibleValuesParser};
use clap::{Arg, ArgAction, ArgMatches, Args, FromArgMatches, ValueEnum};
use yandro_core::{Group, Https, OPTIONS, SiteOption, ValueForm};

#[derive(Debug, Args)]
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
        ValueForm::Flag | ValueForm::Word(_) => arg.value_parser(PossibleValuesParser::new(words)),
        ValueForm::Ports => arg.value_parser(clap::value_parser!(u16).range(1..)).action(ArgAction::Append),
        ValueForm::Texts => arg.action(ArgAction::Append),
        ValueForm::Text if known.may_be_found => arg.num_args(0..=1).default_missing_value("").require_equals(true),
        ValueForm::Text | ValueForm::Number => arg,
    })
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
