//! Host names: validation, IDNA, and what kind of suffix a name has.

mod public;
mod suffix;

use core::net::IpAddr;
use std::fmt;
use std::str::FromStr;

pub(crate) use suffix::RESERVED;
pub use suffix::Suffix;

/// A host name in its ASCII form: lower case, A-labels, no final dot.
///
/// Holds only names that are valid in a hosts file, a virtual host and a
/// certificate at once: LDH labels of 1 to 63 bytes, 253 bytes in all
/// (RFC 1123 section 2.1, RFC 5890), no IP address and no wildcard.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HostName(String);

/// Reason why a text is not a host name. Carries the text as the user wrote it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NameError {
    /// Nothing was given.
    #[error("a host name is missing: give one such as `saltmarsh.test`")]
    Empty,
    /// A URL, not a name.
    #[error("`{text}` is the address of a page, not a host name: give only the name")]
    Url {
        /// What was given as a name.
        text: String,
        /// The host part of it, if that is a name.
        name: Option<String>,
    },
    /// A name with a port behind it.
    #[error("`{text}` names a port, and a host name has none: give only the name")]
    Port {
        /// What was given as a name.
        text: String,
        /// The part before the colon, if that is a name.
        name: Option<String>,
    },
    /// An IP address.
    #[error("`{text}` is an IP address, not a host name: give a name such as `saltmarsh.test`")]
    Address {
        /// What was given as a name.
        text: String,
    },
    /// A wildcard, which no hosts file can hold.
    #[error(
        "`{text}` is a wildcard, and a hosts file can't hold one; to have a site answer all names below it: yandro map NAME --tenants"
    )]
    Wildcard {
        /// What was given as a name.
        text: String,
    },
    /// A character that no label may hold.
    #[error("`{text}` is not a host name: it can't contain {character}, only letters, digits, hyphens and dots")]
    Character {
        /// What was given as a name.
        text: String,
        /// The first wrong character, in words.
        character: String,
        /// The nearest right name, if there is one.
        name: Option<String>,
    },
    /// A label that is empty, too long, or has a hyphen at its edge.
    #[error("`{text}` is not a host name: {fault}")]
    Label {
        /// What was given as a name.
        text: String,
        /// The label and its fault.
        fault: String,
    },
    /// More than 253 bytes.
    #[error("`{text}` is not a host name: it has {length} bytes, and 253 is the most that a name may have")]
    Long {
        /// What was given as a name.
        text: String,
        /// Its length in ASCII form, in bytes.
        length: usize,
    },
    /// A name whose last label is a number, which browsers read as an IPv4 address.
    #[error(
        "`{text}` ends in a number, and browsers take such a name for an IP address: give it a suffix such as `.test`"
    )]
    Numeric {
        /// What was given as a name.
        text: String,
    },
    /// The machine's own name for itself.
    #[error(
        "`localhost` is this machine's own name and stays as it is: map a name below it, such as `saltmarsh.localhost`"
    )]
    Localhost,
}

impl NameError {
    /// The name that was probably meant.
    pub fn suggestion(&self) -> Option<&str> {
        match self {
            Self::Url { name, .. } | Self::Port { name, .. } | Self::Character { name, .. } => name.as_deref(),
            _ => None,
        }
    }
}

impl HostName {
    /// Reads a name as a person writes it, in any script and case.
    ///
    /// # Errors
    /// A [`NameError`] that says which rule the text breaks and, where one is
    /// near, which name was probably meant.
    pub fn parse(text: &str) -> Result<Self, NameError> {
        let given = text;
        if is_plain(text) {
            // The usual case, and lists have thousands: none of the slips is possible.
            check_labels(given, text)?;
            return Self::of_ascii(given, text.to_owned());
        }
        let text = given.trim();
        if text.is_empty() {
            return Err(NameError::Empty);
        }
        refuse_other_forms(given, text)?;
        let bare = text.strip_suffix('.').unwrap_or(text);
        let ascii = to_ascii(given, bare)?;
        check_labels(given, &ascii)?;
        Self::of_ascii(given, ascii)
    }

    fn of_ascii(given: &str, ascii: String) -> Result<Self, NameError> {
        if ascii.len() > 253 {
            return Err(NameError::Long { text: given.into(), length: ascii.len() });
        }
        if ascii == "localhost" {
            return Err(NameError::Localhost);
        }
        Ok(Self(ascii))
    }

    /// The ASCII form, as used in files and on the wire.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The form for people: U-labels where the name has A-labels (RFC 5890).
    pub fn to_unicode(&self) -> String {
        idna::domain_to_unicode(&self.0).0
    }

    /// Whether the name is `suffix` itself or ends in it.
    pub fn is_below_or_equal(&self, suffix: &str) -> bool {
        self.0.strip_suffix(suffix).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
    }
}

/// Lower-case letters, digits, hyphens, underscores and dots, and no number behind the last dot.
fn is_plain(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.last().is_some_and(u8::is_ascii_lowercase)
        && bytes.iter().all(|byte| matches!(byte, b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' | b'.'))
}

/// URLs, ports, addresses and wildcards are distinguished from mere misspellings:
/// they are the usual slips, and each has its own cure.
fn refuse_other_forms(given: &str, text: &str) -> Result<(), NameError> {
    let unbracketed = text.trim_start_matches('[').trim_end_matches(']');
    if unbracketed.parse::<IpAddr>().is_ok() {
        return Err(NameError::Address { text: given.into() });
    }
    if let Some((_, rest)) = text.split_once("://") {
        let host = rest.split(['/', '?', '#', ':']).next().unwrap_or_default();
        return Err(NameError::Url { text: given.into(), name: nearest(host) });
    }
    if let Some((host, _)) = text.split_once(['/', '\\']) {
        return Err(NameError::Url { text: given.into(), name: nearest(host) });
    }
    if let Some((host, port)) = text.rsplit_once(':')
        && port.bytes().all(|byte| byte.is_ascii_digit())
    {
        return Err(NameError::Port { text: given.into(), name: nearest(host) });
    }
    if text.contains('*') {
        return Err(NameError::Wildcard { text: given.into() });
    }
    Ok(())
}

fn nearest(text: &str) -> Option<String> {
    HostName::parse(text).ok().map(|name| name.0)
}

fn to_ascii(given: &str, bare: &str) -> Result<String, NameError> {
    let wrong = bare.chars().find(|&c| c.is_whitespace() || c.is_control() || (c.is_ascii() && !is_usual(c)));
    if let Some(wrong) = wrong {
        let character = match wrong {
            ' ' => "a space".to_owned(),
            c if c.is_control() || c.is_whitespace() => format!("the character U+{:04X}", u32::from(c)),
            c => format!("`{c}`"),
        };
        let fixed: String = bare.chars().map(|c| if c == ' ' { '-' } else { c }).collect();
        let name = if fixed == bare { None } else { nearest(&fixed) };
        return Err(NameError::Character { text: given.into(), character, name });
    }
    if bare.is_ascii() {
        return Ok(bare.to_ascii_lowercase());
    }
    idna::domain_to_ascii_strict(bare).map_err(|_| NameError::Label {
        text: given.into(),
        fault: "it can't be written in the form that DNS takes (IDNA, RFC 5891): look for a character that names may not hold, or a label over 63 bytes".into(),
    })
}

/// Letters, digits, hyphens and dots (RFC 952), and underscores, which neither resolvers nor servers refuse.
fn is_usual(c: char) -> bool {
    c.is_ascii_alphanumeric() || "-_.".contains(c)
}

fn check_labels(given: &str, ascii: &str) -> Result<(), NameError> {
    let fault = |fault: String| Err(NameError::Label { text: given.into(), fault });
    for label in ascii.split('.') {
        if label.is_empty() {
            return fault("it has an empty part: two dots in a row, or one at the start".into());
        }
        if label.len() > 63 {
            return fault(format!(
                "its part `{}…` has {} bytes, and 63 is the most that a part may have",
                &label[..16],
                label.len()
            ));
        }
        if label.starts_with('-') || label.ends_with('-') {
            return fault(format!("its part `{label}` begins or ends with a hyphen"));
        }
    }
    // The WHATWG URL standard reads such a host as an IPv4 address.
    let last = ascii.rsplit('.').next().unwrap_or(ascii);
    let hexadecimal = last.strip_prefix("0x").is_some_and(|rest| rest.bytes().all(|b| b.is_ascii_hexdigit()));
    if hexadecimal || last.bytes().all(|byte| byte.is_ascii_digit()) {
        return Err(NameError::Numeric { text: given.into() });
    }
    Ok(())
}

impl FromStr for HostName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        Self::parse(text)
    }
}

impl fmt::Display for HostName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl serde::Serialize for HostName {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> serde::Deserialize<'de> for HostName {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

impl AsRef<str> for HostName {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refusal(text: &str) -> String {
        let error = HostName::parse(text).unwrap_err();
        format!("{error} ({})", error.suggestion().unwrap_or("no suggestion"))
    }

    #[test]
    fn names_are_taken_as_people_write_them() {
        for (given, ascii) in [
            ("saltmarsh.test", "saltmarsh.test"),
            ("Depot.Saltmarsh.TEST", "depot.saltmarsh.test"),
            (" saltmarsh.test. ", "saltmarsh.test"),
            ("fähre.saltmarsh.test", "xn--fhre-loa.saltmarsh.test"),
            ("3.saltmarsh.test", "3.saltmarsh.test"),
            ("_salt_Marsh.test", "_salt_marsh.test"),
        ] {
            assert_eq!(HostName::parse(given).unwrap().as_str(), ascii);
        }
        assert_eq!(HostName::parse("fähre.test").unwrap().to_unicode(), "fähre.test");
    }

    #[test]
    fn each_slip_is_refused_with_its_own_cure() {
        let long = format!("{}.test", "a".repeat(64));
        let longer = [["a"; 60].concat().as_str(); 5].join(".") + ".test";
        for (given, words) in [
            ("", "a host name is missing"),
            ("http://saltmarsh.test/tides", "give only the name (saltmarsh.test)"),
            ("saltmarsh.test/tides", "give only the name (saltmarsh.test)"),
            ("saltmarsh.test:8080", "names a port, and a host name has none: give only the name (saltmarsh.test)"),
            ("salt marsh.test", "(salt-marsh.test)"),
            ("salt marsh.test", "it can't contain a space"),
            ("saltmarsh.test\n127.0.0.1 depot.test", "U+000A"),
            ("127.0.0.1", "is an IP address"),
            ("[::1]", "is an IP address"),
            ("*.saltmarsh.test", "is a wildcard"),
            ("saltmarsh..test", "two dots in a row"),
            ("-salt.test", "begins or ends with a hyphen"),
            ("saltmarsh.1", "ends in a number"),
            ("localhost", "map a name below it"),
            (long.as_str(), "64 bytes"),
            (longer.as_str(), "253 is the most"),
        ] {
            assert!(refusal(given).contains(words), "{given:?}: {}", refusal(given));
        }
    }
}
