//! `yandro authority`.

pub(super) mod device;
mod export;
mod own;
mod passphrase;
mod replace;
mod runtimes;
mod stands;
mod trust;

use yandro_core::{Authority, Key, date};
use yandro_machine::{files, observe};

use crate::args::{AuthorityArgs, AuthorityCommand};
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, STRONG, Ui, data};

pub(super) use own::none_yet;
use own::root_nickname;
pub(super) use trust::{Chosen, Root, TrustWish};

pub(crate) fn run<'c>(context: &'c Context, args: &'c AuthorityArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match &args.command {
        AuthorityCommand::Show => show(context),
        AuthorityCommand::Trust { store } => trust::trust(context, *store, ui),
        AuthorityCommand::Distrust { store } => trust::distrust(context, *store, ui),
        AuthorityCommand::Widen { suffixes, networks } => replace::widen(context, suffixes, networks, ui),
        AuthorityCommand::Narrow { suffixes, networks } => replace::narrow(context, suffixes, networks, ui),
        AuthorityCommand::Replace => replace::replace(context, ui),
        AuthorityCommand::Passphrase { remove, new_passphrase_file } => {
            passphrase::run(context, *remove, new_passphrase_file.as_deref(), ui)
        }
        AuthorityCommand::Env { format } => export::env(context, *format),
        AuthorityCommand::Export { to_device: true, listen, minutes, .. } => {
            device::offer_root(context, *listen, *minutes, ui)
        }
        AuthorityCommand::Export { format, out, .. } => export::export(context, *format, out.as_deref(), ui),
    }
}

fn show(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let places = &context.machine.places;
    let Some(certificates) = observe::authority_certificates(&context.machine)? else {
        return Err(none_yet());
    };
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let facts = &authority.root_facts;
    let fingerprint = files_fingerprint(authority.root());
    let key = files::read_if_there(&places.issuing_key())?.unwrap_or_default();
    let is_locked = Key::is_locked(&String::from_utf8_lossy(&key));
    let guard = if is_locked { "behind a passphrase" } else { "not encrypted, readable only by you" };
    let stands = stands::Stands::of(context, &root_nickname(&authority));
    let runtimes = runtimes::Runtimes::of(context, &authority);
    let data = AuthorityData {
        root: places.root_certificate().to_string(),
        subject: facts.subject.clone(),
        sha256: fingerprint,
        not_after: date(facts.not_after),
        suffixes: authority.constraints().suffixes.clone(),
        key_behind_passphrase: is_locked,
        networks: authority.constraints().networks.iter().map(ToString::to_string).collect(),
        stores: stands.to_data(),
        runtimes: runtimes.to_data(),
    };
    let key = places.issuing_key();
    Ok(Outcome::new(data, move |data, ui| {
        let facts = &authority.root_facts;
        ui.say(&format!("{STRONG}{}{STRONG:#}", authority.title()));
        ui.say(&labelled(&[
            ("root certificate", data.root.clone()),
            ("sha-256", data.sha256.clone()),
            ("valid", format!("until {}, {} days", data.not_after, facts.days_left(now()))),
            ("can issue for", authority.constraints().suffixes_in_words()),
            ("", authority.constraints().networks_in_words()),
            ("root key", "none: it was never written".into()),
            ("issuing key", format!("{key} ({guard})")),
        ]));
        stands.show(ui);
        runtimes.show(ui);
    }))
}

data! {
    /// Data of `yandro authority show`.
    struct AuthorityData {
        /// The file with the root certificate.
        root: String,
        subject: String,
        /// Its fingerprint as browsers show it.
        sha256: String,
        not_after: String,
        /// The suffixes that it can issue for (RFC 5280 section 4.2.1.10).
        suffixes: Vec<String>,
        key_behind_passphrase: bool,
        /// The networks that it can issue for.
        networks: Vec<String>,
        stores: Vec<StoreData>,
        runtimes: RuntimesData,
    }

    /// A trust store.
    struct StoreData {
        store: String,
        path: String,
        /// Whether it trusts the authority; none if it can't be asked.
        trusted: Option<bool>,
        /// The roots of earlier authorities that are still in it.
        former_roots: Vec<String>,
    }

    /// A runtime that was measured.
    struct RuntimeData {
        runtime: String,
        program: String,
        trusts: bool,
    }
}

/// The runtimes that trust it, or the reason why none was measured.
#[derive(serde::Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(crate) enum RuntimesData {
    Measured(Vec<RuntimeData>),
    Not {
        #[serde(rename = "not-measured")]
        not_measured: String,
    },
}

impl Data for AuthorityData {}

/// SHA-256 of the certificate, as browsers show it.
fn files_fingerprint(der: &[u8]) -> String {
    let digits = files::sha256(der);
    digits.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_uppercase()).collect::<Vec<_>>().join(":")
}

#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::AuthorityData;
    pub(crate) use super::device::OfferData;
    pub(crate) use super::export::{Exported, TrustVariables};
    pub(crate) use super::passphrase::KeyData;
    pub(crate) use super::replace::Replaced;
    pub(crate) use super::trust::Trust;
}
