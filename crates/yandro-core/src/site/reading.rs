//! Reading and writing the values of options.

use std::borrow::Cow;

use camino::{Utf8Path, Utf8PathBuf};

use super::InvalidValue;
use super::serving::checked_port;
use crate::name::{HostName, NameError};
use crate::server_path::{in_files, native};
use crate::tables::Value;

pub(super) fn texts(texts: Vec<String>) -> Option<Value> {
    (!texts.is_empty()).then_some(Value::Texts(texts))
}

pub(super) fn text(text: &impl ToString) -> Value {
    Value::Text(text.to_string())
}

/// A path of this machine.
pub(super) fn written(path: &Utf8PathBuf) -> Value {
    Value::Text(in_files(path))
}

pub(super) fn ports(ports: &[u16]) -> Option<Value> {
    (!ports.is_empty()).then(|| Value::Numbers(ports.to_vec()))
}

pub(super) fn read_ports(values: &[&str], usual: u16) -> Result<Vec<u16>, InvalidValue> {
    let port = |text: &&str| text.parse().map_err(|_| InvalidValue::Port((*text).to_owned())).and_then(checked_port);
    let ports: Vec<u16> = values.iter().map(port).collect::<Result<_, _>>()?;
    let mut sorted = ports.clone();
    sorted.sort_unstable();
    if let Some(twice) = sorted.windows(2).find_map(|pair| (pair[0] == pair[1]).then_some(pair[0])) {
        return Err(InvalidValue::PortTwice(twice));
    }
    // Only the default one counts as none.
    Ok(if ports == [usual] { Vec::new() } else { ports })
}

/// The last of the values, if there is one.
pub(super) fn last<T, E>(values: &[&str], read: impl Fn(&str) -> Result<T, E>) -> Result<Option<T>, E> {
    values.last().map(|text| read(text)).transpose()
}

pub(super) fn each<T, E>(values: &[&str], read: impl Fn(&str) -> Result<T, E>) -> Result<Vec<T>, E> {
    values.iter().map(|text| read(text)).collect()
}

/// A path with `~/` at its beginning taken for the home folder.
pub(super) fn below_home<'t>(path: &'t str, home: Option<&Utf8Path>) -> Cow<'t, str> {
    match (path.strip_prefix("~/"), home) {
        (Some(below), Some(home)) => home.join(below).into_string().into(),
        _ => path.into(),
    }
}

pub(super) fn absolute(path: &str) -> Result<Utf8PathBuf, InvalidValue> {
    let path = native(path);
    if path.has_root() { Ok(path) } else { Err(InvalidValue::AbsolutePath(path.into_string())) }
}

pub(super) fn relative(path: &str) -> Result<Utf8PathBuf, InvalidValue> {
    let path = Utf8PathBuf::from(path);
    let stays_below = path.components().all(|part| matches!(part, camino::Utf8Component::Normal(_)));
    if stays_below && path.components().next().is_some() {
        Ok(path)
    } else {
        Err(InvalidValue::PathBelow(path.into_string()))
    }
}

pub(super) fn address(text: &str) -> Result<core::net::IpAddr, InvalidValue> {
    text.parse().map_err(|_| InvalidValue::Address(text.to_owned()))
}

pub(super) fn host(text: &str) -> Result<HostName, NameError> {
    HostName::parse(text)
}
