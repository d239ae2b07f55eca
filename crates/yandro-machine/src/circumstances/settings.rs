//! Settings of this machine that keep some program from a mapped name.

use std::time::Instant;

use yandro_core::{Authority, NameCommand, Setting, StoreKind, StoreStanding, Timed, nickname, shell_word};

use crate::files;
use crate::machine::Machine;
use crate::trust::{self, stores};

/// The variables that name a proxy, as programs look for them.
const PROXIES: [&str; 6] = ["https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY", "http_proxy", "HTTP_PROXY"];

/// Such settings in the environment and in browsers' profiles. `variable` reads the environment.
pub fn look(machine: &Machine, variable: impl Fn(&str) -> Option<String>) -> Vec<Setting> {
    let mut found = Vec::new();
    if machine.is_real() {
        found.extend(proxy(variable));
    }
    for store in browsers(machine) {
        found.extend(names_elsewhere(&store));
        found.extend(browser_proxy(&store));
    }
    found.extend(policy_proxy(machine));
    found
}

fn browsers(machine: &Machine) -> Vec<stores::Store> {
    stores::find(machine).into_iter().filter(|store| store.kind == StoreKind::Nss).collect()
}

fn proxy(variable: impl Fn(&str) -> Option<String>) -> Option<Setting> {
    let (name, value) =
        PROXIES.iter().find_map(|name| Some((name, variable(name).filter(|value| !value.is_empty())?)))?;
    // The text before an `@` may be a password.
    let shown = match value.rsplit_once('@') {
        Some((_, host)) => format!("…@{host}"),
        None => value,
    };
    let excepted = variable("no_proxy").or_else(|| variable("NO_PROXY")).unwrap_or_default();
    let excepted = excepted.split(',').map(|own| own.trim().to_owned()).filter(|own| !own.is_empty()).collect();
    Some(Setting::Proxy { variable: format!("{name}={shown}"), excepted })
}

/// The settings of a Firefox profile, the person's own file after the browser's: name, value, file and line.
fn preferences(store: &stores::Store) -> Vec<(String, String, String)> {
    let mut found = Vec::new();
    for name in ["prefs.js", "user.js"] {
        let path = store.path.join(name);
        let text = String::from_utf8_lossy(&files::read(&path).unwrap_or_default()).into_owned();
        for (number, line) in text.lines().enumerate() {
            let setting = line.trim().strip_prefix("user_pref(\"").and_then(|rest| rest.split_once("\","));
            let Some((name, value)) = setting.and_then(|(name, rest)| Some((name, rest.rsplit_once(')')?.0))) else {
                continue;
            };
            let value = value.trim().trim_matches('"').to_owned();
            found.push((name.to_owned(), value, format!("{path}:{}", number + 1)));
        }
    }
    found
}

/// The value that counts of a setting: the last.
fn preference<'p>(all: &'p [(String, String, String)], name: &str) -> Option<(&'p str, &'p str)> {
    all.iter().rev().find(|(own, ..)| own == name).map(|(_, value, place)| (value.as_str(), place.as_str()))
}

/// The command that sets a setting in the user's file of a profile: the text before and behind the value.
/// Values are host names, lists of them and words of JavaScript: none has an apostrophe.
fn set_to(store: &stores::Store, name: &str) -> (String, String) {
    let file = shell_word(store.path.join("user.js").as_str());
    (format!("echo 'user_pref(\"{name}\", "), format!(");' >> {file}"))
}

/// A profile of Firefox that asks a server for names (`network.trr.mode` 2 or 3) and leaves the
/// hosts file out of it.
fn names_elsewhere(store: &stores::Store) -> Option<Setting> {
    const OUT: &str = "network.trr.exclude-etc-hosts";
    let all = preferences(store);
    let (mode, _) = preference(&all, "network.trr.mode")?;
    let (value, place) = preference(&all, OUT)?;
    let is_past = matches!(mode, "2" | "3") && value == "false";
    let (before, after) = set_to(store, OUT);
    is_past.then(|| Setting::NamesElsewhere {
        title: store.title.clone(),
        setting: place.to_owned(),
        fix: format!("{before}true{after}"),
    })
}

/// A profile of Firefox with a separate proxy (`network.proxy.type` 1, or 2 for a script).
fn browser_proxy(store: &stores::Store) -> Option<Setting> {
    const EXCEPTED: &str = "network.proxy.no_proxies_on";
    let all = preferences(store);
    let (kind, place) = preference(&all, "network.proxy.type")?;
    let named = |name: &str| preference(&all, name).filter(|(value, _)| !value.is_empty());
    let (_, place) = match kind {
        "1" => named("network.proxy.ssl")
            .or_else(|| named("network.proxy.socks"))
            .or_else(|| named("network.proxy.http"))?,
        // Only the browser can evaluate a script.
        "2" => named("network.proxy.autoconfig_url").map(|(value, _)| (value, place))?,
        _ => return None,
    };
    let own = preference(&all, EXCEPTED).map(|(value, _)| value).unwrap_or_default();
    let excepted: Vec<String> = own.split(',').map(|own| own.trim().to_owned()).filter(|own| !own.is_empty()).collect();
    let listed: String = excepted.iter().filter(|own| !own.contains('\'')).map(|own| format!("{own}, ")).collect();
    let (before, after) = set_to(store, EXCEPTED);
    let fix = NameCommand::Around(format!("{before}\"{listed}"), format!("\"{after}"));
    Some(Setting::BrowserProxy { title: store.title.clone(), setting: place.to_owned(), excepted, fix })
}

/// Policies of Chromium and Chrome that give them a proxy (`ProxySettings`, or `ProxyMode` and what goes with it).
fn policy_proxy(machine: &Machine) -> Option<Setting> {
    const FOLDERS: [(&str, &str); 3] = [
        ("Chromium", "/etc/chromium/policies/managed"),
        ("Chromium", "/etc/chromium-browser/policies/managed"),
        ("Chrome", "/etc/opt/chrome/policies/managed"),
    ];
    for (title, folder) in FOLDERS {
        for entry in machine.real_path(folder).read_dir_utf8().into_iter().flatten().flatten() {
            let path = entry.path();
            let text = String::from_utf8_lossy(&files::read(path).unwrap_or_default()).into_owned();
            let Ok(policy) = serde_json::from_str::<serde_json::Value>(&text) else { continue };
            let settings = policy.get("ProxySettings").unwrap_or(&policy);
            let text_of = |name: &str| settings.get(name).and_then(serde_json::Value::as_str);
            if !matches!(text_of("ProxyMode"), Some("fixed_servers" | "pac_script")) {
                continue;
            }
            let split = |own: &str| own.split([',', ';']).map(|own| own.trim().to_owned()).collect();
            let excepted: Vec<String> = text_of("ProxyBypassList").map(split).unwrap_or_default();
            let line = text.lines().position(|line| line.contains("\"ProxyMode\"")).map_or(1, |at| at + 1);
            return Some(Setting::BrowserProxy {
                title: title.to_owned(),
                setting: format!("{}:{line}", machine.places.inside(path)),
                excepted,
                fix: NameCommand::Editor(format!(
                    "sudo ${{EDITOR:-vi}} +{line} {}",
                    shell_word(machine.places.inside(path).as_str())
                )),
            });
        }
    }
    None
}

/// The trust stores, and whether each trusts the authority. Java's are read and not asked, which takes
/// longer than a check.
pub fn stores(machine: &Machine, authority: &Authority) -> Timed<Vec<StoreStanding>> {
    let started = Instant::now();
    let own = nickname(&files::sha256(authority.root()));
    let mut seen = Vec::new();
    if let Some(store) = trust::find(machine) {
        let path = trust::file_of(machine, store, &own);
        // The file has no effect before the list is built from it: the list is read.
        let list = files::read_if_there(&machine.path(store.list())).ok().flatten();
        let is_in = |list: Vec<u8>| trust::has(&list, authority.root());
        let trusts = path.is_file() && list.is_none_or(is_in);
        seen.push(StoreStanding { title: "this system".into(), path: store.folder().into(), trusts });
    }
    for store in stores::find(machine) {
        if let Some(trusts) = stores::trusts(machine, &store, &own, authority.root()) {
            seen.push(StoreStanding { title: store.title, path: store.path.to_string(), trusts });
        }
    }
    Timed { took: started.elapsed(), seen }
}
