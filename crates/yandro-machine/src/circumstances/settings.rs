//! Settings of this machine that stand in some program's way to a mapped name.

use yandro_core::check::Setting;
use yandro_core::pki::Authority;
use yandro_core::plan::nickname;
use yandro_core::system::StoreKind;

use crate::files;
use crate::machine::Machine;
use crate::trust::{self, stores};

/// The variables that name a proxy, as programs look for them.
const PROXIES: [&str; 6] = ["https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY", "http_proxy", "HTTP_PROXY"];

/// What is found in the environment and in browsers' profiles, and which trust stores don't agree.
/// `variable` reads the environment.
pub fn look(
    machine: &Machine,
    authority: Option<&Authority>,
    variable: impl Fn(&str) -> Option<String>,
) -> Vec<Setting> {
    let mut found = Vec::new();
    if machine.is_real() {
        found.extend(proxy(variable));
    }
    let browsers = stores::find(machine).into_iter().filter(|store| store.kind == StoreKind::Nss);
    let browsers: Vec<stores::Store> = browsers.collect();
    for store in &browsers {
        found.extend(names_elsewhere(store));
    }
    if let Some(authority) = authority {
        found.extend(untrusting(machine, authority, &browsers));
    }
    found
}

fn proxy(variable: impl Fn(&str) -> Option<String>) -> Option<Setting> {
    let (name, value) =
        PROXIES.iter().find_map(|name| Some((name, variable(name).filter(|value| !value.is_empty())?)))?;
    // What stands before an `@` may be a password.
    let shown = match value.rsplit_once('@') {
        Some((_, host)) => format!("…@{host}"),
        None => value,
    };
    let excepted = variable("no_proxy").or_else(|| variable("NO_PROXY")).unwrap_or_default();
    let excepted = excepted.split(',').map(|own| own.trim().to_owned()).filter(|own| !own.is_empty()).collect();
    Some(Setting::Proxy { variable: format!("{name}={shown}"), excepted })
}

/// A profile of Firefox that asks a server for names (`network.trr.mode` 2 or 3) and leaves the
/// hosts file out of it.
fn names_elsewhere(store: &stores::Store) -> Option<Setting> {
    let mut mode = None;
    let mut ignores = None;
    for name in ["prefs.js", "user.js"] {
        let text = std::fs::read_to_string(store.path.join(name)).unwrap_or_default();
        for (number, line) in text.lines().enumerate() {
            if line.contains("\"network.trr.mode\"") {
                mode = Some(line.contains(", 2)") || line.contains(", 3)"));
            } else if line.contains("\"network.trr.exclude-etc-hosts\"") {
                ignores = Some((line.contains("false"), format!("{}:{}", store.path.join(name), number + 1)));
            }
        }
    }
    let (_, place) = ignores.filter(|(ignores, _)| *ignores && mode == Some(true))?;
    Some(Setting::NamesElsewhere { title: store.title.clone(), setting: place })
}

/// The stores that don't trust the authority, if another one does. Java's are left out: asking them
/// takes longer than a check.
fn untrusting(machine: &Machine, authority: &Authority, browsers: &[stores::Store]) -> Vec<Setting> {
    let own = nickname(&files::sha256(authority.root()));
    let mut stands: Vec<(bool, String, String)> = Vec::new();
    if let Some(store) = trust::find(machine) {
        let path = trust::file_of(machine, store, &own);
        stands.push((path.is_file(), "this system".into(), store.folder().into()));
    }
    let trusts = |store: &stores::Store| {
        stores::own_roots(machine, store.kind, &store.path).ok().map(|held| held.contains(&own))
    };
    stands.extend(
        browsers.iter().filter_map(|store| Some((trusts(store)?, store.title.clone(), store.path.to_string()))),
    );
    if stands.iter().all(|(trusts, ..)| !trusts) {
        return Vec::new();
    }
    let silent = stands.into_iter().filter(|(trusts, ..)| !trusts);
    silent.map(|(_, title, path)| Setting::Untrusting { title, path }).collect()
}
