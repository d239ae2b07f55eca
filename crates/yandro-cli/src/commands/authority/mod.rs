//! `yandro authority`.

mod device;
mod export;
mod passphrase;
mod replace;
mod runtimes;
mod stands;
mod trust;

use serde_json::json;
use yandro_core::pki::{Authority, Key, date};
use yandro_core::plan::nickname;
use yandro_machine::{files, observe};

use crate::args::{AuthorityArgs, AuthorityCommand};
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::labelled;
use crate::view::{STRONG, Ui};

pub(crate) fn run(context: &Context, args: &AuthorityArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    match &args.command {
        AuthorityCommand::Show => show(context, ui),
        AuthorityCommand::Trust { store } => trust::trust(context, *store, ui),
        AuthorityCommand::Distrust { store } => trust::distrust(context, *store, ui),
        AuthorityCommand::Widen { suffixes, networks } => replace::widen(context, suffixes, networks, ui),
        AuthorityCommand::Narrow { suffixes, networks } => replace::narrow(context, suffixes, networks, ui),
        AuthorityCommand::Replace => replace::replace(context, ui),
        AuthorityCommand::Passphrase { remove, new_passphrase_file } => {
            passphrase::run(context, *remove, new_passphrase_file.as_deref(), ui)
        }
        AuthorityCommand::Env { format } => export::env(context, *format, ui),
        AuthorityCommand::Export { to_device: true, listen, minutes, .. } => {
            device::offer_root(context, *listen, *minutes, ui)
        }
        AuthorityCommand::Export { format, out, .. } => export::export(context, *format, out.as_deref(), ui),
    }
}

fn show(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let places = &context.machine.places;
    let Some(certificates) = observe::authority_certificates(&context.machine)? else {
        return Err(none_yet());
    };
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let facts = &authority.root_facts;
    let fingerprint = files_fingerprint(authority.root());
    let key = files::read_if_there(&places.issuing_key())?.unwrap_or_default();
    let is_locked = Key::is_locked(&String::from_utf8_lossy(&key));
    let guard = if is_locked { "behind a passphrase" } else { "in the clear, for you alone" };
    let stands = stands::Stands::of(context, &root_nickname(&authority));
    let runtimes = runtimes::Runtimes::of(context, &authority);
    if ui.json {
        ui.json(&json!({
            "version": 1, "root": places.root_certificate(), "subject": facts.subject, "sha256": fingerprint,
            "not-after": date(facts.not_after), "suffixes": authority.constraints().suffixes,
            "key-behind-passphrase": is_locked,
            "networks": authority.constraints().networks.iter().map(|(base, bits)| format!("{base}/{bits}")).collect::<Vec<_>>(),
            "stores": stands.to_json(), "runtimes": runtimes.to_json(),
        }));
        return Ok(Status::Well);
    }
    ui.say(&format!("{STRONG}{}{STRONG:#}", authority.title()));
    ui.say(&labelled(&[
        ("root certificate", places.root_certificate().to_string()),
        ("sha-256", fingerprint),
        ("valid", format!("until {}, {} days", date(facts.not_after), facts.days_left(now()))),
        ("may vouch for", authority.constraints().suffixes_in_words()),
        ("", authority.constraints().networks_in_words()),
        ("root key", "none: it was never written".into()),
        ("issuing key", format!("{} ({guard})", places.issuing_key())),
    ]));
    stands.show(ui);
    runtimes.show(ui);
    Ok(Status::Well)
}

/// What an authority's root is called in the trust stores.
pub(super) fn root_nickname(authority: &Authority) -> String {
    nickname(&files::sha256(authority.root()))
}

pub(super) fn none_yet() -> CommandError {
    CommandError::not_made("there is no local authority yet").hint("the first `yandro map NAME FOLDER` makes it")
}

/// SHA-256 of the certificate, as browsers show it.
fn files_fingerprint(der: &[u8]) -> String {
    let digits = files::sha256(der);
    digits.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_uppercase()).collect::<Vec<_>>().join(":")
}
