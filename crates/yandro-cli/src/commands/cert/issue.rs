//! `yandro cert issue`.

use std::net::IpAddr;

use camino::Utf8Path;
use serde_json::json;
use yandro_core::name::HostName;
use yandro_core::pki::{Authority, Facts, Key, LeafRequest, SigningRequest, date};
use yandro_core::plan::{Access, ChangeSet, Fresh as _, Step};
use yandro_machine::{SystemFresh, files, observe};

use crate::commands::apply::{Planned, apply};
use crate::commands::authority::none_yet;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::labelled;
use crate::view::{STRONG, Ui};

pub(super) fn issue(
    context: &Context,
    names: &[String],
    addresses: &[IpAddr],
    days: i64,
    out: &Utf8Path,
    ui: &mut Ui,
) -> Result<Status, CommandError> {
    let (wild, plain): (Vec<&String>, Vec<&String>) = names.iter().partition(|name| name.starts_with("*."));
    let parse = |texts: Vec<&String>| -> Result<Vec<HostName>, CommandError> {
        let bare = |text: &String| HostName::parse(text.strip_prefix("*.").unwrap_or(text));
        texts.into_iter().map(|text| bare(text).map_err(CommandError::from)).collect()
    };
    let (names, wildcards) = (parse(plain)?, parse(wild)?);
    let folder = context.given(out);
    let (chain_path, key_path) = (folder.join("fullchain.pem"), folder.join("key.pem"));
    let plan = || {
        if let Some(path) = [&chain_path, &key_path].into_iter().find(|path| path.exists()) {
            return Err(CommandError::usage(format!("there is a file {path} already"))
                .hint("give another folder, or take it away first"));
        }
        let certificates = observe::authority_certificates(&context.machine)?.ok_or_else(none_yet)?;
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        let issuing_key = issuing_key(context)?;
        let mut fresh = SystemFresh::new();
        let key = fresh.key();
        let (names, wildcards) = (&names[..], &wildcards[..]);
        let request = LeafRequest { names, wildcards, addresses, days, now: now(), serial: fresh.serial() };
        let chain = authority.issue(&issuing_key, &request, &key).map_err(CommandError::usage)?;
        let mut set = ChangeSet::default();
        if !folder.is_dir() {
            set.steps.push(Step::Folder { path: folder.clone(), access: Access::Private });
        }
        set.file(key_path.clone(), None::<Vec<u8>>, Some(key.to_secret_pem().into_bytes()), Access::Secret);
        set.file(chain_path.clone(), None::<Vec<u8>>, Some(chain.clone().into_bytes()), Access::Public);
        Ok(Planned { set, starts: false, about: chain })
    };
    let Some(done) = apply(context, ui, plan, |_| Ok(()))? else { return Ok(Status::Well) };
    tell(&done.about, &chain_path, Some(&key_path), ui)
}

/// Signs a request of somebody else's, for the key that they have.
pub(super) fn sign(
    context: &Context,
    request: &Utf8Path,
    days: i64,
    out: &Utf8Path,
    ui: &mut Ui,
) -> Result<Status, CommandError> {
    let (request, path) = (context.given(request), context.given(out));
    let text = files::read_if_there(&request)?;
    let text = text.ok_or_else(|| CommandError::usage(format!("there is no file `{request}`")))?;
    let asked = SigningRequest::from_pem(&String::from_utf8_lossy(&text)).map_err(CommandError::usage)?;
    let plan = || {
        if path.exists() {
            return Err(CommandError::usage(format!("there is a file {path} already"))
                .hint("give another file, or take it away first"));
        }
        let certificates = observe::authority_certificates(&context.machine)?.ok_or_else(none_yet)?;
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        let serial = SystemFresh::new().serial();
        let chain = authority.sign(&issuing_key(context)?, &asked, days, now(), serial).map_err(CommandError::usage)?;
        let mut set = ChangeSet::default();
        set.file(path.clone(), None::<Vec<u8>>, Some(chain.clone().into_bytes()), Access::Public);
        Ok(Planned { set, starts: false, about: chain })
    };
    let Some(done) = apply(context, ui, plan, |_| Ok(()))? else { return Ok(Status::Well) };
    tell(&done.about, &path, None, ui)
}

/// What was issued, and where it is.
fn tell(chain: &str, path: &Utf8Path, key: Option<&Utf8Path>, ui: &mut Ui) -> Result<Status, CommandError> {
    let chain = Facts::certificates(chain.as_bytes()).map_err(CommandError::not_made)?;
    let facts = Facts::read(&chain[0]).map_err(CommandError::not_made)?;
    if ui.json {
        ui.json(&json!({
            "version": 1, "certificate": path, "key": key, "names": facts.names, "addresses": facts.addresses,
            "not-after": date(facts.not_after),
        }));
        return Ok(Status::Well);
    }
    let addresses = facts.addresses.iter().map(ToString::to_string);
    let covered: Vec<String> = facts.names.iter().cloned().chain(addresses).collect();
    ui.say(&format!("{STRONG}{}{STRONG:#}", covered.join(", ")));
    let mut lines = vec![
        ("valid", format!("until {}, {} days", date(facts.not_after), facts.days_left(now()))),
        ("certificate", format!("{path} (with its chain: this is what servers take)")),
    ];
    lines.extend(key.map(|key| ("key", key.to_string())));
    ui.say(&labelled(&lines));
    Ok(Status::Well)
}

fn issuing_key(context: &Context) -> Result<Key, CommandError> {
    let path = context.machine.places.issuing_key();
    let bytes = files::read_if_there(&path)?;
    let bytes = bytes.ok_or_else(|| CommandError::not_made(format!("the authority's key {path} is missing")))?;
    let text = String::from_utf8_lossy(&bytes);
    Key::from_pem(&text).map_err(|error| CommandError::not_made(format!("{path}: {error}")))
}
