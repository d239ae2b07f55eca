//! `yandro authority`.

use serde_json::json;
use yandro_core::pki::{Authority, date};
use yandro_core::plan::{Access, ChangeSet, Step, TrustChange, nickname};
use yandro_machine::trust::browsers::{self, BrowserStore};
use yandro_machine::{files, observe, trust};

use super::apply::{Planned, apply};
use super::trust_stands::Stands;
use crate::args::StoresArg;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::{labelled, summary};
use crate::view::{STRONG, Ui};

pub(crate) fn show(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let places = &context.machine.places;
    let Some(certificates) = observe::authority_certificates(&context.machine)? else {
        return Err(none_yet());
    };
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let facts = &authority.root_facts;
    let fingerprint = files_fingerprint(authority.root());
    let stands = Stands::of(context, &root_nickname(&authority));
    if ui.json {
        ui.json(&json!({
            "version": 1, "root": places.root_certificate(), "subject": facts.subject, "sha256": fingerprint,
            "not-after": date(facts.not_after), "suffixes": authority.constraints().suffixes,
            "networks": authority.constraints().networks.iter().map(|(base, bits)| format!("{base}/{bits}")).collect::<Vec<_>>(),
            "stores": stands.to_json(),
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
    stands.show(ui);
    Ok(Status::Well)
}

pub(crate) fn trust(context: &Context, which: StoresArg, ui: &mut Ui) -> Result<Status, CommandError> {
    change_trust(context, which, ui, true)
}

pub(crate) fn distrust(context: &Context, which: StoresArg, ui: &mut Ui) -> Result<Status, CommandError> {
    change_trust(context, which, ui, false)
}

/// Puts the root certificate into the trust stores, or takes it out. Roots of earlier authorities
/// are taken out in either case: nothing of theirs is to be believed any more.
fn change_trust(context: &Context, which: StoresArg, ui: &mut Ui, is_wanted: bool) -> Result<Status, CommandError> {
    let machine = &context.machine;
    let is_system = trust::find(machine).is_some() && which != StoresArg::Browsers;
    let browsers = if which == StoresArg::System { Vec::new() } else { browsers::find(machine) };
    if !is_system && browsers.is_empty() {
        return Err(CommandError::not_made("there is no trust store that yandro knows how to keep")
            .hint(format!("import the root certificate by hand: {}", machine.places.root_certificate())));
    }
    let has_program = browsers::has_program();
    if !has_program && !browsers.is_empty() && which == StoresArg::Browsers {
        return Err(CommandError::not_made(
            "the trust stores of browsers are kept by the program `certutil`, which isn't there",
        )
        .hint(NO_CERTUTIL));
    }
    let plan = || {
        let certificates = observe::authority_certificates(machine)?.ok_or_else(none_yet)?;
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        let own = root_nickname(&authority);
        let mut set = ChangeSet::default();
        if is_system {
            of_system(context, &mut set, &own, is_wanted.then_some(certificates.root.as_str()))?;
        }
        for store in browsers.iter().filter(|_| has_program) {
            of_browser(&mut set, store, &own, &certificates.root, is_wanted)?;
        }
        Ok(Planned { set, starts: false, about: authority.root_facts.subject })
    };
    let Some(done) = apply(context, ui, plan, |_| Ok(()))? else { return Ok(Status::Well) };
    if ui.json {
        ui.json(&json!({ "version": 1, "trusted": is_wanted, "changed": !done.set.is_empty() }));
        return Ok(Status::Well);
    }
    let where_ = match (is_system, browsers.is_empty() || !has_program) {
        (true, true) => "by this system",
        (true, false) => "by this system and your browsers",
        (false, _) => "by your browsers",
    };
    let verb = match (is_wanted, done.set.is_empty()) {
        (true, false) => format!("is trusted {where_} now"),
        (true, true) => format!("is trusted {where_} already"),
        (false, false) => format!("is trusted {where_} no more"),
        (false, true) => format!("was not trusted {where_}"),
    };
    ui.say(&format!("{STRONG}{}{STRONG:#} {verb}", done.about));
    ui.say(&labelled(&summary(&done.set, &machine.places)));
    if !has_program && !browsers.is_empty() {
        ui.note(&format!("your browsers' stores were left as they are, since `certutil` isn't there: {NO_CERTUTIL}"));
    } else if done.set.steps.iter().any(|step| matches!(step, Step::Trust(_))) {
        ui.note("browsers that run take it up when they are started again");
    }
    if is_wanted && browsers.is_empty() && which != StoresArg::System {
        ui.note(&format!(
            "no browser's store was found: start the browser once and run this again, or import {} there",
            machine.places.root_certificate()
        ));
    }
    Ok(Status::Well)
}

/// What is to happen in the system's store: the root's file, and those of earlier roots.
fn of_system(context: &Context, set: &mut ChangeSet, own: &str, root: Option<&str>) -> Result<(), CommandError> {
    let machine = &context.machine;
    let Some(store) = trust::find(machine) else { return Ok(()) };
    let path = trust::file_of(machine, store, own);
    set.file(path.clone(), files::read_if_there(&path)?, root.map(|root| root.as_bytes().to_vec()), Access::Public);
    for orphan in trust::own_files(machine, store).into_iter().filter(|other| *other != path) {
        let text = files::read_if_there(&orphan)?;
        set.file(orphan, text, None::<Vec<u8>>, Access::Public);
    }
    Ok(())
}

/// The same in a browser's store.
fn of_browser(
    set: &mut ChangeSet,
    store: &BrowserStore,
    own: &str,
    root: &str,
    is_wanted: bool,
) -> Result<(), CommandError> {
    let held = browsers::own_roots(&store.path).map_err(CommandError::not_made)?;
    let change = |nickname: &str, certificate: String, after: bool| {
        let (store, title) = (store.path.clone(), store.title.clone());
        let nickname = nickname.to_owned();
        Step::Trust(TrustChange { store, title, nickname, certificate, before: !after, after })
    };
    for nickname in held.iter().filter(|nickname| *nickname != own) {
        let certificate = browsers::certificate(&store.path, nickname).map_err(CommandError::not_made)?;
        set.steps.push(change(nickname, certificate, false));
    }
    let is_trusted = held.iter().any(|nickname| nickname == own);
    if is_wanted && !is_trusted {
        if !store.path.is_dir() {
            set.steps.push(Step::Folder { path: store.path.clone(), access: Access::Private });
        }
        set.steps.push(change(own, root.to_owned(), true));
    } else if !is_wanted && is_trusted {
        set.steps.push(change(own, root.to_owned(), false));
    }
    Ok(())
}

const NO_CERTUTIL: &str = "install it (`apt install libnss3-tools`), then run `yandro authority trust` again";

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
