//! Variables for the application of a site.

use core::fmt;

use super::InvalidValue;

/// A variable that PHP and the shell get: `NAME=VALUE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteVariable {
    /// Letters, digits and underscores, no digit first.
    pub name: String,
    /// Its value, without control characters, `$` and backslashes, which servers don't take as they are.
    pub value: String,
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
    /// Reads `NAME=VALUE`.
    ///
    /// # Errors
    /// For a name that is none or that servers set themselves, and for characters that a server would not take as they
    /// are.
    pub fn parse(text: &str) -> Result<Self, InvalidValue> {
        let (name, value) = text.split_once('=').ok_or_else(|| InvalidValue::Variable(text.to_owned()))?;
        let is_name = !name.is_empty()
            && !name.starts_with(|c: char| c.is_ascii_digit())
            && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
        if !is_name {
            return Err(InvalidValue::Variable(text.to_owned()));
        }
        if RESERVED.iter().any(|start| name.starts_with(start)) || RESERVED_NAMES.contains(&name) {
            return Err(InvalidValue::ReservedVariable(name.to_owned()));
        }
        if value.contains(['$', '\\']) || value.chars().any(char::is_control) {
            return Err(InvalidValue::VariableValue(name.to_owned()));
        }
        Ok(Self { name: name.to_owned(), value: value.to_owned() })
    }
}

impl SiteVariable {
    /// Whether the arguments of a directive are a variable that a site may have.
    pub(crate) fn is_allowed<'v>(mut values: impl Iterator<Item = &'v str>) -> bool {
        let (Some(name), Some(value), None) = (values.next(), values.next(), values.next()) else { return false };
        Self::parse(&format!("{name}={value}")).is_ok()
    }
}

impl fmt::Display for SiteVariable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.name, self.value)
    }
}

/// Variables, the last of each name.
///
/// # Errors
/// As [`SiteVariable::parse`].
pub(super) fn variables(values: &[&str]) -> Result<Vec<SiteVariable>, InvalidValue> {
    let mut all: Vec<SiteVariable> = Vec::new();
    for text in values {
        let variable = SiteVariable::parse(text)?;
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
        let read = |texts: &[&str]| variables(texts).map(|all| all.iter().map(ToString::to_string).collect::<Vec<_>>());
        assert_eq!(read(&["A=1", "B=x=y \"z\"", "A=2"]).unwrap(), ["B=x=y \"z\"", "A=2"]);
        for (text, words) in [
            ("A", "`A` is not a variable: write it as `NAME=VALUE`"),
            ("1A=x", "`1A=x` is not a variable: write it as `NAME=VALUE`"),
            ("A B=x", "`A B=x` is not a variable: write it as `NAME=VALUE`"),
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
