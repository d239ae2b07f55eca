//! Variables for the application of a site.

use core::fmt;

use camino::{Utf8Path, Utf8PathBuf};

use super::InvalidValue;
use super::reading::below_home;
use super::serving::checked_path;
use crate::server_path::in_files;

/// A variable that PHP and the shell get: `NAME=VALUE`, or `NAME@FILE` for a secret.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteVariable {
    /// Letters, digits and underscores, no digit first.
    pub name: String,
    /// What it is set to.
    pub value: VariableValue,
}

/// What a variable is set to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VariableValue {
    /// A text without control characters, `$` and backslashes, which servers don't take as they are.
    Text(String),
    /// What is in a file, absolute: a secret, which goes into no configuration.
    File(Utf8PathBuf),
}

/// Names that servers set themselves (RFC 3875 section 4.1), and such by which PHP and the loader of programs take
/// settings: the beginnings, and whole names.
const RESERVED: [&str; 13] = [
    "HTTP_",
    "SERVER_",
    "REMOTE_",
    "REQUEST_",
    "SCRIPT_",
    "DOCUMENT_",
    "CONTENT_",
    "REDIRECT_",
    "GATEWAY_",
    "PATH_",
    "FCGI_",
    "LD_",
    "CONTEXT_",
];
const RESERVED_NAMES: [&str; 6] = ["HTTPS", "PHP_VALUE", "PHP_ADMIN_VALUE", "QUERY_STRING", "AUTH_TYPE", "PATH"];

impl SiteVariable {
    /// Reads `NAME=VALUE` or `NAME@FILE`.
    ///
    /// # Errors
    /// For a name that is none or that servers set themselves, for characters that a server would not take as they
    /// are, and for a file without an absolute path.
    pub fn parse(text: &str) -> Result<Self, InvalidValue> {
        let at = text.find(['=', '@']).ok_or_else(|| InvalidValue::Variable(text.to_owned()))?;
        let (name, value) = (&text[..at], &text[at + 1..]);
        let is_name = !name.is_empty()
            && !name.starts_with(|c: char| c.is_ascii_digit())
            && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
        if !is_name {
            return Err(InvalidValue::Variable(text.to_owned()));
        }
        if RESERVED.iter().any(|start| name.starts_with(start)) || RESERVED_NAMES.contains(&name) {
            return Err(InvalidValue::ReservedVariable(name.to_owned()));
        }
        let value = if text[at..].starts_with('@') {
            VariableValue::File(checked_path(value)?)
        } else if value.contains(['$', '\\']) || value.chars().any(char::is_control) {
            return Err(InvalidValue::VariableValue(name.to_owned()));
        } else {
            VariableValue::Text(value.to_owned())
        };
        Ok(Self { name: name.to_owned(), value })
    }

    /// Name and value of one whose value is no secret: what a web server sets.
    pub fn plain(&self) -> Option<(&str, &str)> {
        match &self.value {
            VariableValue::Text(value) => Some((&self.name, value)),
            VariableValue::File(_) => None,
        }
    }

    /// Name and file of a secret.
    pub fn secret(&self) -> Option<(&str, &Utf8Path)> {
        match &self.value {
            VariableValue::Text(_) => None,
            VariableValue::File(file) => Some((&self.name, file)),
        }
    }
}

impl SiteVariable {
    /// Whether the arguments of a directive are a variable that a site may have.
    pub(crate) fn is_allowed<'v>(mut values: impl Iterator<Item = &'v str>) -> bool {
        let (Some(name), Some(value), None) = (values.next(), values.next(), values.next()) else { return false };
        Self::parse(&format!("{name}={value}")).is_ok_and(|own| own.secret().is_none())
    }
}

impl fmt::Display for SiteVariable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.value {
            VariableValue::Text(value) => write!(f, "{}={value}", self.name),
            VariableValue::File(file) => write!(f, "{}@{}", self.name, in_files(file)),
        }
    }
}

/// Variables, the last of each name. The file of a secret may be below the home folder, as `~/`.
///
/// # Errors
/// As [`SiteVariable::parse`].
pub(super) fn variables(values: &[&str], home: Option<&Utf8Path>) -> Result<Vec<SiteVariable>, InvalidValue> {
    let mut all: Vec<SiteVariable> = Vec::new();
    for text in values {
        let variable = match text.split_once("@~/") {
            Some((name, _)) if !name.contains('=') => {
                let file = below_home(&text[name.len() + 1..], home);
                SiteVariable::parse(&format!("{name}@{file}"))?
            }
            _ => SiteVariable::parse(text)?,
        };
        all.retain(|other| other.name != variable.name);
        all.push(variable);
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn variables_are_read_and_those_of_servers_refused() {
        let home = if cfg!(windows) { "C:/ada" } else { "/home/ada" };
        let read = |texts: &[&str]| {
            variables(texts, Some(home.into())).map(|all| all.iter().map(ToString::to_string).collect::<Vec<_>>())
        };
        assert_eq!(read(&["A=1", "B=x=y \"z\"", "A=2"]).unwrap(), ["B=x=y \"z\"", "A=2"]);
        let key = format!("A@{home}/key");
        assert_eq!(read(&["A@~/key", "B=x@~/y", "C@/a=b"]).unwrap(), [&*key, "B=x@~/y", "C@/a=b"]);
        assert!(!SiteVariable::is_allowed(["A@/etc/x", "y"].into_iter()));
        for (text, words) in [
            ("A", "`A` is not a variable: write it as `NAME=VALUE`, or a secret as `NAME@FILE`"),
            ("1A=x", "`1A=x` is not a variable: write it as `NAME=VALUE`, or a secret as `NAME@FILE`"),
            ("A B=x", "`A B=x` is not a variable: write it as `NAME=VALUE`, or a secret as `NAME@FILE`"),
            ("HTTP_KEY@/x", "the variable `HTTP_KEY` is set by the server, or changes how programs run"),
            ("A@key", "`key` is not an absolute path: begin it with `/` or `~/`"),
            ("HTTP_PROXY=x", "the variable `HTTP_PROXY` is set by the server, or changes how programs run"),
            ("PHP_VALUE=x", "the variable `PHP_VALUE` is set by the server, or changes how programs run"),
            (
                "A=$x",
                "the value of `A` has a `$`, a backslash or a control character, which servers don't take as it is",
            ),
        ] {
            assert_eq!(read(&[text]).unwrap_err().to_string(), words);
        }
    }
}
