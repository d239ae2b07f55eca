//! `yandro env`.

use camino::Utf8Path;
use yandro_core::{HostName, Shell, Site, SiteVariable, VariableValue, shell_word};
use yandro_machine::caller;

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
    let all: Vec<(String, String)> = own.into_iter().chain(variables(site)?).collect();
    let data = SiteEnvironment { site: site.name.to_string(), variables: all.iter().cloned().collect() };
    let shell = Shell::from(args.format);
    Ok(Outcome::new(data, move |_, ui| {
        let lines: Vec<String> = all.iter().map(|(name, value)| shell.set(name, value)).collect();
        ui.say(&lines.join("\n"));
    }))
}

/// The variables of a site with their values. Secrets are read from their files, without the line's end.
pub(super) fn variables(site: &Site) -> Result<Vec<(String, String)>, CommandError> {
    let value = |own: &SiteVariable| {
        let value = match &own.value {
            VariableValue::Text(value) => value.clone(),
            VariableValue::File(file) => secret(&own.name, file)?,
        };
        Ok((own.name.clone(), value))
    };
    site.serving.variables.iter().map(value).collect()
}

fn secret(name: &str, file: &Utf8Path) -> Result<String, CommandError> {
    let _rights = caller::rights_for(file);
    let text = std::fs::read_to_string(file).map_err(|error| {
        CommandError::not_made(format!("the secret `{name}` can't be read from {file}: {error}"))
            .hint(format!("write it there: install -m 600 /dev/stdin {}", shell_word(file.as_str())))
    })?;
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}
