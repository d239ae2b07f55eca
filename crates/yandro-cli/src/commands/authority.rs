//! `yandro authority`.

use serde_json::json;
use yandro_core::pki::{Authority, date};
use yandro_core::plan::{Access, ChangeSet};
use yandro_machine::{files, observe, trust};

use super::apply::{Planned, apply};
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::{labelled, summary};
use crate::view::{COMMAND, STRONG, Ui};

pub(crate) fn show(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let places = &context.machine.places;
    let Some(certificates) = observe::authority_certificates(&context.machine)? else {
        return Err(none_yet());
    };
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let facts = &authority.root_facts;
    let fingerprint = files_fingerprint(authority.root());
    if ui.json {
        ui.json(&json!({
            "version": 1, "root": places.root_certificate(), "subject": facts.subject, "sha256": fingerprint,
            "not-after": date(facts.not_after), "suffixes": authority.constraints().suffixes,
            "networks": authority.constraints().networks.iter().map(|(base, bits)| format!("{base}/{bits}")).collect::<Vec<_>>(),
        }));
        return Ok(Status::Well);
    }
    ui.say(&format!("{STRONG}{}{STRONG:#}", facts.subject));
    ui.say(&labelled(&[
        ("root certificate", places.root_certificate().to_string()),
        ("sha-256", fingerprint),
        ("valid", format!("until {}, {} days", date(facts.not_after), facts.days_left(now()))),
        ("may vouch for", authority.constraints().suffixes_in_words()),
        ("", authority.constraints().networks_in_words()),
        ("root key", "none: it was never written".into()),
        ("issuing key", places.issuing_key().to_string()),
    ]));
    ui.say(&format!(
        "\nHave the system trust it: {COMMAND}yandro authority trust{COMMAND:#}. Browsers have stores of their own: import the root\ncertificate there. Whatever trusts it trusts every site that you map."
    ));
    Ok(Status::Well)
}

pub(crate) fn trust(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    change_trust(context, ui, true)
}

pub(crate) fn distrust(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    change_trust(context, ui, false)
}

/// Puts the root certificate into the system's trust store, or takes it out.
fn change_trust(context: &Context, ui: &mut Ui, is_wanted: bool) -> Result<Status, CommandError> {
    let machine = &context.machine;
    let store = trust::find(machine).ok_or_else(|| {
        CommandError::not_made("this system has no trust store that yandro knows how to keep")
            .hint(format!("import the root certificate by hand: {}", machine.places.root_certificate()))
    })?;
    let plan = || {
        let certificates = observe::authority_certificates(machine)?.ok_or_else(none_yet)?;
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        let digest = files::sha256(authority.root());
        let path = machine.path(store.folder()).join(format!("yandro-{}.{}", &digest[..16], store.extension()));
        let mut set = ChangeSet::default();
        let before = files::read_if_there(&path)?;
        set.file(path, before, is_wanted.then(|| certificates.root.into_bytes()), Access::Public);
        Ok(Planned { set, starts: false, about: authority.root_facts.subject })
    };
    let Some(done) = apply(context, ui, plan, |_| Ok(()))? else { return Ok(Status::Well) };
    if ui.json {
        ui.json(&json!({ "version": 1, "trusted": is_wanted, "changed": !done.set.is_empty() }));
        return Ok(Status::Well);
    }
    let verb = match (is_wanted, done.set.is_empty()) {
        (true, false) => "is trusted by this system now",
        (true, true) => "is trusted by this system already",
        (false, false) => "is trusted by this system no more",
        (false, true) => "was not trusted by this system",
    };
    ui.say(&format!("{STRONG}{}{STRONG:#} {verb}", done.about));
    ui.say(&labelled(&summary(&done.set, &machine.places)));
    if is_wanted {
        ui.note(&format!(
            "browsers and some runtimes have stores of their own: import {} there",
            machine.places.root_certificate()
        ));
    }
    Ok(Status::Well)
}

fn none_yet() -> CommandError {
    CommandError::not_made("there is no local authority yet").hint("the first `yandro map NAME FOLDER` makes it")
}

/// SHA-256 of the certificate, as browsers show it.
fn files_fingerprint(der: &[u8]) -> String {
    let digits = files::sha256(der);
    digits.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_uppercase()).collect::<Vec<_>>().join(":")
}
