//! The web server of a site.

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::servers::ServerKind;

/// A web server that sites are mapped on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ServerId {
    /// The one of its kind that is found on the machine.
    Found(ServerKind),
    /// The server that `yandro serve` runs.
    BuiltIn,
    /// A server that yandro doesn't configure: in a virtual machine, in a container, on another machine.
    Elsewhere,
    /// A server that the user added to the settings.
    Named(ServerName),
}

impl ServerId {
    /// The Apache httpd that is found on the machine.
    pub const APACHE: Self = Self::Found(ServerKind::Apache);
    /// The nginx that is found on the machine.
    pub const NGINX: Self = Self::Found(ServerKind::Nginx);

    /// Servers that need no entry in the settings.
    pub fn unnamed() -> impl Iterator<Item = Self> {
        ServerKind::ALL.iter().copied().map(Self::Found).chain([Self::BuiltIn, Self::Elsewhere])
    }

    /// Reads a server's word or name.
    ///
    /// # Errors
    /// A [`ServerNameError`] for what can be neither.
    pub fn parse(text: &str) -> Result<Self, ServerNameError> {
        match Self::unnamed().find(|own| own.word() == text) {
            Some(own) => Ok(own),
            None => ServerName::parse(text).map(Self::Named),
        }
    }

    /// Whether yandro writes configuration for it.
    pub fn is_configured(self) -> bool {
        !matches!(self, Self::BuiltIn | Self::Elsewhere)
    }

    /// The word for it on the command line and in the site list.
    pub fn word(&self) -> &str {
        match self {
            Self::Found(kind) => kind.word(),
            Self::BuiltIn => "built-in",
            Self::Elsewhere => "elsewhere",
            Self::Named(name) => name.as_str(),
        }
    }
}

impl fmt::Display for ServerId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Found(kind) => kind.fmt(f),
            Self::BuiltIn => f.write_str("the built-in server"),
            Self::Elsewhere => f.write_str("the server there"),
            Self::Named(name) => name.fmt(f),
        }
    }
}

impl<'de> Deserialize<'de> for ServerId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

impl Serialize for ServerId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

/// The most letters that a server's name has: as many as a label of the DNS (RFC 1035).
const LONGEST: usize = 63;

/// The user's name for a server: small letters, digits and hyphens.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ServerName {
    // Kept inline, filled up with zeros: it goes where the number of a server would.
    letters: [u8; LONGEST],
}

/// A text that can't be a server's name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` can't be a server's name")]
pub struct ServerNameError(String);

impl ServerName {
    /// Reads a name.
    ///
    /// # Errors
    /// A [`ServerNameError`] for one with other characters, and for the word of a server
    /// that needs no naming.
    pub fn parse(text: &str) -> Result<Self, ServerNameError> {
        let is_letter = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
        let is_taken = text == "any" || ServerId::unnamed().any(|own| own.word() == text);
        let is_bare = text.starts_with('-') || text.ends_with('-');
        if text.is_empty() || text.len() > LONGEST || !text.bytes().all(is_letter) || is_bare || is_taken {
            return Err(ServerNameError(text.to_owned()));
        }
        let mut letters = [0; LONGEST];
        letters[..text.len()].copy_from_slice(text.as_bytes());
        Ok(Self { letters })
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        let end = self.letters.iter().position(|byte| *byte == 0).unwrap_or(LONGEST);
        std::str::from_utf8(&self.letters[..end]).expect("it was read from letters of ASCII")
    }
}

impl fmt::Display for ServerName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl fmt::Debug for ServerName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.as_str(), f)
    }
}

impl<'de> Deserialize<'de> for ServerName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_name_is_read_back_as_written() {
        let longest = "a".repeat(63);
        for text in ["ferries", "harbour-2", "0", longest.as_str()] {
            let id = ServerId::parse(text).unwrap();
            assert_eq!((id, id.word()), (ServerId::Named(ServerName::parse(text).unwrap()), text));
        }
        assert_eq!(ServerId::parse("built-in"), Ok(ServerId::BuiltIn));
        let too_long = "a".repeat(64);
        for text in ["", "any", "-a", "a-", "A", "a b", "a/b", "fähre", too_long.as_str()] {
            assert!(ServerId::parse(text).is_err(), "{text}");
        }
        assert!(ServerName::parse("apache").is_err());
    }
}
