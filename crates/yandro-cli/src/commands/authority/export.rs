//! `yandro authority env` and `export`.

use std::io::IsTerminal as _;

use camino::Utf8Path;
use yandro_core::{
    Access, Authority, ChangeSet, Role, Shell, certificate_bundle, mobile_profile, trust_lines, trust_variables,
};
use yandro_machine::{files, observe, trust};

use super::own::{none_yet, root_nickname};
use crate::args::{RootFormat, ShellArg};
use crate::commands::apply::{Planned, apply, done};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Data, Outcome, STRONG, Ui, data};

pub(super) fn env(context: &Context, format: ShellArg) -> Result<Outcome<'_>, CommandError> {
    let machine = &context.machine;
    let certificates = observe::authority_certificates(machine)?.ok_or_else(none_yet)?;
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let own = root_nickname(&authority);
    // The system's list can replace a runtime's own once the root is in it.
    let list = trust::find(machine).filter(|store| trust::file_of(machine, *store, &own).is_file());
    let list = list.map(|store| Utf8Path::new(store.list()));
    let root = machine.places.root_certificate();
    let values = trust_variables(&root, list).into_iter().flat_map(|(_, values)| values);
    let variables = values.map(|(name, value)| (name.to_owned(), value)).collect();
    let shell = Shell::from(format);
    let (lines, has_list) = (trust_lines(shell, &root, list), list.is_some());
    Ok(Outcome::new(TrustVariables { root: root.to_string(), variables }, move |_, ui| {
        ui.say(&lines.join("\n"));
        if !has_list && shell != Shell::Dockerfile {
            ui.note(
                "Python, Ruby, Go, curl and git take the system's list, once it has the root: yandro authority trust",
            );
        }
    }))
}

data! {
    /// Data of `yandro authority env`.
    struct TrustVariables {
        /// The file with the root certificate.
        root: String,
        /// Environment variables by their names.
        variables: std::collections::BTreeMap<String, String>,
    }

    /// Data of `yandro authority export --out`.
    struct Exported {
        /// The file that was written.
        out: String,
    }
}

impl Data for TrustVariables {}
impl Data for Exported {}

pub(super) fn export<'c>(
    context: &'c Context,
    format: RootFormat,
    out: Option<&'c Utf8Path>,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let certificates = observe::authority_certificates(&context.machine)?.ok_or_else(none_yet)?;
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let content = match format {
        RootFormat::Pem => certificates.root.into_bytes(),
        RootFormat::Der => authority.root().to_vec(),
        RootFormat::P7b => certificate_bundle(&[authority.root()]),
        RootFormat::Mobileconfig => {
            let digest = files::sha256(authority.root());
            mobile_profile(authority.title(), &certificates.root, &digest).into_bytes()
        }
    };
    let Some(out) = out else {
        let stdout = std::io::stdout();
        if matches!(format, RootFormat::Der | RootFormat::P7b) && stdout.is_terminal() {
            return Err(CommandError::usage("these are bytes, and no text for a terminal")
                .hint("name a file for them: --out FILE"));
        }
        ui.bytes(&content);
        return Ok(Outcome::printed());
    };
    let path = context.given(out);
    let plan = || {
        let before = files::read_if_there(&path)?;
        if before.as_ref().is_some_and(|before| *before != content) {
            return Err(CommandError::usage(format!("there is a file {path} already, and it holds something else"))
                .hint("name another, or take it away first"));
        }
        let mut set = ChangeSet::default();
        set.file(Role::Export, path.clone(), (before, Some(content.clone())), Access::Public);
        Ok(Planned { set, starts: false, about: () })
    };
    done!(apply(context, ui, plan, |()| Ok(())));
    Ok(Outcome::new(Exported { out: path.to_string() }, |data, ui| {
        ui.say(&format!("{STRONG}{}{STRONG:#} holds the root certificate, and no key", data.out));
    }))
}
