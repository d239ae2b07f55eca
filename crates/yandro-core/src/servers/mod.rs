//! The kinds of web servers that yandro configures, each in a folder.
//!
//! A kind is [`Software`]: how its files are written, where they are, how a configuration is run through, and what
//! planning needs of it. To add one, add its folder and its row below; the machine crate has one more row, with what it
//! takes to run the program.

mod configuration;
pub(crate) mod httpd;
pub(crate) mod nginx;
mod rule;
mod software;

pub use configuration::Configuration;
pub use configuration::Listener;
pub use rule::{Rule, RuleEffect};
pub use software::{ControlProgram, Image, Software};
pub use software::{Loopback6, ProjectRules, Seeing, ServerReport, Start};

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// One row for each kind.
macro_rules! kinds {
    ($($name:ident: $software:path, $doc:literal;)*) => {
        /// Kind of server: the software whose configuration yandro writes.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum ServerKind {
            $(#[doc = $doc] $name,)*
        }

        impl ServerKind {
            /// Every kind, the usual choice first.
            pub const ALL: &[Self] = &[$(Self::$name),*];

            /// Knowledge about it.
            pub fn software(self) -> &'static dyn Software {
                match self { $(Self::$name => &$software),* }
            }
        }
    };
}

kinds! {
    Apache: httpd::Httpd, "Apache httpd.";
    Nginx: nginx::Nginx, "nginx.";
}

impl ServerKind {
    /// The word for it, in commands and files.
    pub fn word(self) -> &'static str {
        self.software().word()
    }

    /// Reads that word.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.word() == word)
    }

    /// The directives of a site's file that yandro never writes there, each with its arguments in one line: those of
    /// other names, programs in the place of logs, and included files. `None` for a file that can't be read.
    pub fn foreign_directives(self, file: &[u8]) -> Option<Vec<String>> {
        crate::config::foreign_directives(self.software().dialect(), file)
    }
}

impl fmt::Display for ServerKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.software().title())
    }
}

impl<'de> Deserialize<'de> for ServerKind {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let word = std::borrow::Cow::<str>::deserialize(deserializer)?;
        Self::parse(&word).ok_or_else(|| {
            let words: Vec<&str> = Self::ALL.iter().map(|kind| kind.word()).collect();
            serde::de::Error::custom(format!("`{word}` is not a kind of server: expected {}", words.join(" or ")))
        })
    }
}

impl Serialize for ServerKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}
