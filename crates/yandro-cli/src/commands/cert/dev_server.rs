//! `yandro cert env`.

use serde_json::json;
use yandro_core::shell::Shell;

use super::Held;
use crate::args::ShellArg;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::Ui;

pub(super) fn env(context: &Context, name: &str, format: ShellArg, ui: &mut Ui) -> Result<Status, CommandError> {
    let held = Held::find(context, name)?;
    let all = held.files().variables();
    if ui.json {
        let variables: serde_json::Map<_, _> = all
            .into_iter()
            .flat_map(|(_, values)| values)
            .map(|(name, value)| (name.to_owned(), json!(value)))
            .collect();
        ui.json(&json!({ "version": 1, "site": held.site.name.as_str(), "variables": variables }));
        return Ok(Status::Well);
    }
    let shell = Shell::from(format);
    let groups: Vec<String> = all
        .iter()
        .map(|(reader, values)| {
            let lines: Vec<String> = values.iter().map(|(name, value)| shell.set(name, value)).collect();
            format!("{}\n{}", shell.comment(reader), lines.join("\n"))
        })
        .collect();
    ui.say(&groups.join("\n"));
    if held.site.own_tls().is_none() {
        ui.note(&format!(
            "have the name lead to the dev server's own port: yandro map {} https://127.0.0.1:PORT",
            held.site.name
        ));
    }
    Ok(Status::Well)
}
