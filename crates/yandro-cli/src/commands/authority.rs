//! `yandro authority show`.

use serde_json::json;
use yandro_core::pki::{Authority, date};
use yandro_machine::observe;

use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::labelled;
use crate::view::{STRONG, Ui};

pub(crate) fn show(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let places = &context.machine.places;
    let Some(certificates) = observe::authority_certificates(&context.machine)? else {
        return Err(CommandError::not_made("there is no local authority yet")
            .hint("the first `yandro map NAME FOLDER` makes it"));
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
    ui.say("\nImport the root certificate into a browser or system, and it trusts every site that you map.");
    Ok(Status::Well)
}

/// SHA-256 of the certificate, as browsers show it.
fn files_fingerprint(der: &[u8]) -> String {
    let digits = yandro_machine::files::sha256(der);
    digits.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_uppercase()).collect::<Vec<_>>().join(":")
}
