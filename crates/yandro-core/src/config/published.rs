//! Under which ports of this machine a server's own ports are reached.

/// A port that a server has published.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PublishedPort {
    /// The port at which it is reached from here.
    pub here: u16,
    /// The server's own port.
    pub there: u16,
}

/// A text that is not a port mapping.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a published port: write the port of this machine, `:`, and the server's own, as in `8443:443`")]
pub struct PublishedPortError(String);

impl PublishedPort {
    /// Reads `HERE:THERE`, or one number for both.
    ///
    /// # Errors
    /// A [`PublishedPortError`] when there are not one or two numbers from 1 to 65535.
    pub fn parse(text: &str) -> Result<Self, PublishedPortError> {
        let port = |text: &str| text.parse::<u16>().ok().filter(|port| *port != 0 && !text.starts_with('+'));
        let (here, there) = text.split_once(':').unwrap_or((text, text));
        let both = port(here).zip(port(there));
        both.map(|(here, there)| Self { here, there }).ok_or_else(|| PublishedPortError(text.to_owned()))
    }
}

impl std::fmt::Display for PublishedPort {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.here, self.there)
    }
}

/// The ports of a server as they are reached from here; with none named, they are the same.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Published(pub Vec<PublishedPort>);

impl Published {
    /// The published port of a server's port; `None` if it isn't published.
    pub fn here(&self, there: u16) -> Option<u16> {
        if self.0.is_empty() {
            return Some(there);
        }
        self.0.iter().find(|own| own.there == there).map(|own| own.here)
    }

    /// As [`Self::here`]; a port that isn't published is itself.
    pub fn here_or_same(&self, there: u16) -> u16 {
        self.here(there).unwrap_or(there)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_one_number_or_two() {
        assert_eq!(PublishedPort::parse("8443:443"), Ok(PublishedPort { here: 8443, there: 443 }));
        assert_eq!(PublishedPort::parse("80").unwrap().to_string(), "80:80");
        for text in ["", "0", "80:", ":80", "80:80:80", "+80", "65536", "a"] {
            assert!(PublishedPort::parse(text).is_err(), "{text}");
        }
        let published = Published(vec![PublishedPort { here: 8080, there: 80 }]);
        assert_eq!(
            (published.here(80), published.here(443), Published::default().here(443)),
            (Some(8080), None, Some(443))
        );
    }
}
