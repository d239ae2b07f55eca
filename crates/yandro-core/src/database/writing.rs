//! A database written into the configuration of an application.

use camino::Utf8Path;

use super::address::{DatabaseAddress, DatabaseKind, DatabasePlace};
use super::configuration::{Part, groups, pairs};

/// A configuration file that names this database in the place of the one that it names; `None` if it names none, or
/// a value has a form that can't hold it. Everything else stays, also how values are quoted.
pub fn with_database(path: &Utf8Path, text: &str, address: &DatabaseAddress) -> Option<String> {
    let pairs = pairs(path, text);
    let groups = groups(&pairs);
    let group = groups.iter().find(|group| !group.addresses().is_empty() || group.is_template())?;
    let mut edits = Vec::new();
    for (part, is_named, pair) in &group.parts {
        let is_url = pair.value.contains(':') && DatabaseKind::parse(pair.value.split(':').next()?).is_some();
        let value = match part {
            Part::Url | Part::Name if is_url => Some(url_like(&pair.value, address)),
            Part::Name if !*is_named && group.has_named() => None,
            Part::Name => Some(name_of(address)),
            Part::Host => match &address.place {
                DatabasePlace::Server(host, port) if group.has(Part::Port) || *port == address.kind.port() => {
                    Some(host.clone())
                }
                DatabasePlace::Server(host, port) => Some(format!("{host}:{port}")),
                DatabasePlace::Socket(path) if group.has(Part::Socket) || is_usual(address.kind, path) => {
                    Some("localhost".to_owned())
                }
                DatabasePlace::Socket(path) if address.kind == DatabaseKind::PostgreSql => Some(path.to_string()),
                DatabasePlace::Socket(path) => Some(format!("localhost:{path}")),
                DatabasePlace::File(_) => None,
            },
            Part::Port => match &address.place {
                DatabasePlace::Server(_, port) => Some(port.to_string()),
                _ => None,
            },
            Part::Socket => match &address.place {
                DatabasePlace::Socket(path) => Some(path.to_string()),
                _ => None,
            },
            Part::User => address.user.clone(),
            Part::Password => Some(address.password.clone().unwrap_or_default()),
            Part::Kind | Part::Url => None,
        };
        if let Some(value) = value.filter(|value| *value != pair.value) {
            edits.push((pair.at.clone(), value));
        }
    }
    edits.sort_by_key(|(at, _)| core::cmp::Reverse(at.start));
    let mut text = text.to_owned();
    for (at, value) in edits {
        let written = as_written(&text[at.clone()], &value);
        text.replace_range(at, &written);
    }
    Some(text)
}

/// Whether a socket of MySQL is the one that programs take for `localhost`.
fn is_usual(kind: DatabaseKind, socket: &Utf8Path) -> bool {
    kind == DatabaseKind::MySql && kind.sockets().contains(&socket.as_str())
}

/// A value in the quotes that the one before it has.
fn as_written(before: &str, value: &str) -> String {
    let quote = before.chars().next().filter(|first| ['"', '\''].contains(first));
    let is_plain = value.chars().all(|letter| letter.is_alphanumeric() || "-._/:@".contains(letter));
    let is_number = before.bytes().all(|byte| byte.is_ascii_digit()) && value.bytes().all(|byte| byte.is_ascii_digit());
    match quote {
        Some(quote) => format!("{quote}{}{quote}", value.replace('\\', "\\\\").replace(quote, &format!("\\{quote}"))),
        None if is_plain || is_number => value.to_owned(),
        None => format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\"")),
    }
}

fn name_of(address: &DatabaseAddress) -> String {
    match &address.place {
        DatabasePlace::File(path) => path.to_string(),
        _ => address.name.clone(),
    }
}

/// An address in the form of the one before it: a URL with its scheme and parameters, or PDO's.
fn url_like(before: &str, address: &DatabaseAddress) -> String {
    let (scheme, rest) = before.split_once(':').unwrap_or((before, ""));
    if rest.contains('=') && !rest.starts_with('/') {
        let place = match &address.place {
            DatabasePlace::Server(host, port) => format!("host={host};port={port}"),
            DatabasePlace::Socket(path) if address.kind == DatabaseKind::MySql => format!("unix_socket={path}"),
            DatabasePlace::Socket(path) | DatabasePlace::File(path) => format!("host={path}"),
        };
        let kept = rest.split(';').filter(|field| {
            let key = field.split('=').next().unwrap_or_default().trim();
            !["host", "port", "dbname", "unix_socket", "user", "password"].contains(&key) && !key.is_empty()
        });
        let fields = [place, format!("dbname={}", address.name)].into_iter().chain(kept.map(ToOwned::to_owned));
        return format!("{scheme}:{}", fields.collect::<Vec<_>>().join(";"));
    }
    let url = address.url();
    let (_, behind) = url.split_once(':').unwrap_or(("", &url));
    let parameters = rest.split_once('?').map(|(_, parameters)| parameters);
    match parameters {
        Some(parameters) if behind.contains('?') => format!("{scheme}:{behind}&{parameters}"),
        Some(parameters) => format!("{scheme}:{behind}?{parameters}"),
        None => format!("{scheme}:{behind}"),
    }
}

/// The lines that name a database in the form of a file for `.env`, of PHP's constants, or as a URL.
pub fn connection_lines(address: &DatabaseAddress) -> [(&'static str, String); 3] {
    let host = match &address.place {
        DatabasePlace::Server(host, _) => host.clone(),
        DatabasePlace::Socket(path) if is_usual(address.kind, path) => "localhost".to_owned(),
        DatabasePlace::Socket(path) if address.kind == DatabaseKind::MySql => format!("localhost:{path}"),
        DatabasePlace::Socket(path) | DatabasePlace::File(path) => path.to_string(),
    };
    let port = match &address.place {
        DatabasePlace::Server(_, port) => Some(port.to_string()),
        _ => None,
    };
    let host = (address.kind != DatabaseKind::Sqlite).then_some(host);
    let values = [
        ("HOST", host),
        ("PORT", port),
        ("NAME", Some(name_of(address))),
        ("USER", address.user.clone()),
        ("PASSWORD", address.password.clone()),
    ];
    let values: Vec<(&str, String)> = values.into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
    let env: Vec<String> = values.iter().map(|(key, value)| format!("DB_{key}={}", as_written("", value))).collect();
    let php = |(key, value): &(&str, String)| format!("define('DB_{key}', {});", as_written("'", value));
    let php: Vec<String> = values.iter().map(php).collect();
    [("env", env.join("\n")), ("php", php.join("\n")), ("url", format!("DATABASE_URL={}", address.url()))]
}
