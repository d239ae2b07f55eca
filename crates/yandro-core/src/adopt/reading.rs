//! The contents of a hand-written virtual host, and the fate of each of its lines.

use core::net::IpAddr;

use crate::server_path::ServerPath;

use crate::config::{Directive, Files, Section, Want};
use crate::name::HostName;
use crate::site::{Content, Logs, Serving};

/// A virtual host that a person wrote.
#[derive(Clone, Copy)]
pub struct HandBlock<'b> {
    /// The text that it is in.
    pub source: &'b [u8],
    /// Its lines.
    pub section: &'b Section,
    /// The server's files as it sees them.
    pub files: &'b dyn Files,
    /// The folder that relative paths start from.
    pub root: &'b ServerPath,
    /// The folder that it serves, with variables and relative paths resolved.
    pub document_root: Option<&'b str>,
    /// The folder in which the server has its logs.
    pub log_folder: &'b str,
}

/// The fate of a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It becomes this part of the site.
    Understood(&'static str),
    /// It stays word for word.
    Kept,
    /// It goes, for this reason.
    Left(&'static str),
}

/// A line of a virtual host, or a section with all that is in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReadLine {
    /// Its number in the file, from 1.
    pub line: usize,
    /// Its first line.
    pub text: String,
    /// Its fate.
    pub fate: Fate,
}

/// An address of a virtual host.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockAddress {
    /// The address; `None` for all of them.
    pub address: Option<IpAddr>,
    /// The port.
    pub port: u16,
    /// Whether TLS is spoken there.
    pub is_secure: bool,
}

/// The contents of a virtual host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BlockReading {
    /// Its names, the first of them its own; without patterns.
    pub names: Vec<String>,
    /// Its addresses.
    pub addresses: Vec<BlockAddress>,
    /// The folder or the upstream that answers.
    pub content: Option<Content>,
    /// Whether it only redirects to HTTPS.
    pub redirects: bool,
    /// How it serves.
    pub serving: Serving,
    /// The lines that yandro writes in their place, or takes away.
    pub understood: Vec<Want>,
    /// Every line.
    pub lines: Vec<ReadLine>,
    /// The file of its certificate.
    pub certificate: Option<String>,
}

impl BlockReading {
    /// Records the fate of a line.
    pub(crate) fn line(&mut self, block: &HandBlock<'_>, own: &Directive, fate: Fate) {
        let text = String::from_utf8_lossy(&block.source[own.span.clone()]);
        let text = text.lines().find(|line| !line.trim().is_empty()).unwrap_or_default().trim().to_owned();
        self.lines.push(ReadLine { line: own.line, text, fate });
    }

    /// A line that becomes part of the site, and that yandro writes itself from now on.
    pub(crate) fn replaced(&mut self, block: &HandBlock<'_>, own: &Directive, name: &'static str, part: &'static str) {
        self.understood.push(Want::Directive(name, own.values().map(str::to_owned).collect()));
        self.line(block, own, Fate::Understood(part));
    }

    /// A line that yandro writes its own in place of, and why.
    pub(crate) fn left(&mut self, block: &HandBlock<'_>, own: &Directive, name: &'static str, why: &'static str) {
        self.understood.push(Want::Directive(name, own.values().map(str::to_owned).collect()));
        self.line(block, own, Fate::Left(why));
    }

    /// A line that says something about the site, and stays as it is.
    pub(crate) fn noted(&mut self, block: &HandBlock<'_>, own: &Directive, part: &'static str) {
        self.line(block, own, Fate::Understood(part));
    }
}

impl HandBlock<'_> {
    /// Whether a directive of this name is there just once.
    pub(crate) fn has_one(&self, name: &'static str) -> bool {
        self.section.directives(name).count() == 1
    }

    /// The place of a log, if it is a plain file.
    pub(crate) fn log_of(&self, path: &str) -> Option<Logs> {
        let path = ServerPath::new(path);
        let folder = path.parent()?;
        if folder.as_str() == self.log_folder {
            return Some(Logs::Usual);
        }
        let is_plain = path.is_absolute() && !path.as_str().contains(['$', '|', '%']) && folder != "/dev";
        is_plain.then(|| Logs::Folder(folder.to_native()))
    }
}

/// Whether a word is a name that a site can have: no pattern, and not nginx's `_` for none.
pub(crate) fn is_name(word: &str) -> bool {
    word.bytes().any(|byte| byte.is_ascii_alphanumeric() || !byte.is_ascii()) && HostName::parse(word).is_ok()
}

/// Why a line about a certificate goes.
pub(crate) const OWN_CERTIFICATE: &str = "yandro's authority issues the certificate; the file stays on the disk";
/// Why a line about TLS versions or ciphers goes.
pub(crate) const OWN_TLS: &str = "yandro writes its own TLS versions and ciphers";

/// The host and port of an upstream's URL that is an origin and nothing more.
pub(crate) fn upstream(url: &str) -> Option<Content> {
    crate::site::Upstream::parse(url).ok().filter(|upstream| !upstream.is_secure()).map(Content::Upstream)
}
