//! `yandro env`.

use yandro_core::{HostName, Shell};

use super::rename::own_site;
use crate::args::EnvArgs;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Data, Outcome, data};

data! {
    /// Data of `yandro env`.
    struct SiteEnvironment {
        site: String,
        /// Environment variables by their names.
        variables: std::collections::BTreeMap<String, String>,
    }
}

impl Data for SiteEnvironment {}

/// Prints the site's variables for a shell or a file: its address, its name, and those of `--env`.
pub(crate) fn run<'c>(context: &'c Context, args: &EnvArgs) -> Result<Outcome<'c>, CommandError> {
    let (_, list) = context.list()?;
    let site = own_site(&list, &HostName::parse(&args.name)?)?;
    let url = context.url(site).trim_end_matches('/').to_owned();
    let own = [("SITE_URL".to_owned(), url), ("SITE_NAME".to_owned(), site.name.to_string())];
    let set = site.serving.variables.iter().map(|variable| (variable.name.clone(), variable.value.clone()));
    let all: Vec<(String, String)> = own.into_iter().chain(set).collect();
    let data = SiteEnvironment { site: site.name.to_string(), variables: all.iter().cloned().collect() };
    let shell = Shell::from(args.format);
    Ok(Outcome::new(data, move |_, ui| {
        let lines: Vec<String> = all.iter().map(|(name, value)| shell.set(name, value)).collect();
        ui.say(&lines.join("\n"));
    }))
}
