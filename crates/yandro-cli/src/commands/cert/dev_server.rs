//! `yandro cert env`.

use yandro_core::Shell;

use super::HeldCertificate;
use crate::args::ShellArg;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Data, Outcome, data};

pub(super) fn env<'c>(context: &Context, name: &str, format: ShellArg) -> Result<Outcome<'c>, CommandError> {
    let held = HeldCertificate::find(context, name)?;
    let all = held.files().variables();
    let values = all.iter().flat_map(|(_, values)| values);
    let variables = values.map(|(name, value)| ((*name).to_owned(), value.clone())).collect();
    let data = VariableList { site: held.site.name.to_string(), variables };
    Ok(Outcome::new(data, move |data, ui| {
        let shell = Shell::from(format);
        let groups = all.iter().map(|(reader, values)| {
            let lines: Vec<String> = values.iter().map(|(name, value)| shell.set(name, value)).collect();
            format!("{}\n{}", shell.comment(reader), lines.join("\n"))
        });
        ui.say(&groups.collect::<Vec<_>>().join("\n"));
        if held.site.own_tls().is_none() {
            ui.note(&format!(
                "have the name lead to the dev server's own port: yandro map {} https://127.0.0.1:PORT",
                data.site
            ));
        }
    }))
}

data! {
    /// Data of `yandro cert env`.
    struct VariableList {
        site: String,
        /// Environment variables by their names.
        variables: std::collections::BTreeMap<String, String>,
    }
}

impl Data for VariableList {}
