//! The file of a site that a person wrote: their lines, with yandro's in the place of those that it understands.

use super::cut::CutBlock;
use super::reading::BlockReading;
use crate::config::{Dialect, FileText, ParseError, Section, SiteFiles, Want, found_in, head};
use crate::site::Site;
use crate::source::{self, Splice};

/// The virtual hosts of a site that are taken over.
#[derive(Clone, Debug, Default)]
pub struct Brought {
    pub(super) blocks: Vec<(CutBlock, BlockReading)>,
    /// Comments behind the last of them.
    pub(super) rest: Vec<u8>,
}

/// A virtual host that is wanted, and the person's that it is made of.
struct Basis<'b> {
    block: &'b CutBlock,
    reading: &'b BlockReading,
    /// Whether it has the port; one that answers over plain HTTP is taken for HTTPS, too.
    is_own: bool,
}

impl Brought {
    /// The text of the site's file.
    ///
    /// # Errors
    /// [`ParseError`] when a block can't be read by itself.
    pub(crate) fn written(&self, dialect: &dyn Dialect, site: &Site, files: &SiteFiles) -> Result<Vec<u8>, ParseError> {
        let eol = self.blocks.first().map_or("\n", |(block, _)| source::line_end(&block.block));
        let mut text = (head(&site.name, files.list.as_ref()) + eol).into_bytes();
        let mut told: Vec<*const CutBlock> = Vec::new();
        for (number, want) in dialect.hosts(site, files).iter().enumerate() {
            if number > 0 {
                text.extend_from_slice(eol.as_bytes());
            }
            match self.basis(dialect, want) {
                Some(basis) => {
                    if !told.contains(&std::ptr::from_ref(basis.block)) {
                        text.extend_from_slice(&basis.block.comments);
                        told.push(basis.block);
                    }
                    text.extend(converted(dialect, &basis, want, eol)?);
                }
                None => text.extend(want.render(dialect, "", eol).into_bytes()),
            }
        }
        if !self.rest.is_empty() {
            text.extend_from_slice(eol.as_bytes());
            text.extend_from_slice(&self.rest);
        }
        Ok(text)
    }

    /// The person's virtual host that a wanted one is made of.
    fn basis(&self, dialect: &dyn Dialect, want: &Want) -> Option<Basis<'_>> {
        let port = dialect.wanted_port(want)?;
        let is_secure = dialect.is_secure_want(want);
        let on_port =
            |reading: &BlockReading| reading.addresses.iter().any(|own| own.port == port && own.is_secure == is_secure);
        let own = self.blocks.iter().find(|(_, reading)| on_port(reading));
        let copied = || self.blocks.iter().find(|(_, reading)| is_secure && !reading.redirects);
        let (block, reading) = own.or_else(copied)?;
        Some(Basis { block, reading, is_own: own.is_some() })
    }
}

/// A person's virtual host with yandro's lines in it.
fn converted(dialect: &dyn Dialect, basis: &Basis<'_>, want: &Want, eol: &str) -> Result<Vec<u8>, ParseError> {
    let source = &basis.block.block;
    let tree = dialect.parse(source)?;
    let (Want::Section(_, arguments, inner), [section]) = (want, &tree.all(dialect.host())[..]) else {
        return Ok(source.clone());
    };
    let single: Vec<String> = basis.reading.addresses.iter().filter_map(|own| own.address).map(shown).collect();
    let is_single = !single.is_empty();
    let mut earlier = basis.reading.understood.clone();
    stay_out(dialect, section, inner, &mut earlier, is_single);
    let file = FileText { syntax: dialect, source, eol, keeps_edits: false };
    let mut splices = file.update(section, &earlier, inner);
    let port = dialect.wanted_port(want).unwrap_or_default();
    let moved = dialect.moved_to(section, arguments, &single, port, basis.is_own);
    splices.extend(moved.into_iter().map(|(range, text)| Splice::replace(range, text)));
    Ok(indented_away(&source::apply(source, &splices)))
}

/// An address as a server writes it.
fn shown(address: core::net::IpAddr) -> String {
    if address.is_ipv6() { format!("[{address}]") } else { address.to_string() }
}

/// Adds to what was wanted before what yandro is not to write: what the person has another line for, and what would
/// change the answer.
fn stay_out(dialect: &dyn Dialect, section: &Section, wants: &[Want], earlier: &mut Vec<Want>, is_single: bool) {
    for want in wants {
        let name = want.name();
        let is_understood = earlier.iter().any(|own| own.is_same(want, dialect));
        let is_address = dialect.is_address(name);
        let is_added = !found_in(dialect, section, want) && dialect.may_add(name) && !(is_address && is_single);
        if !is_understood && !is_added {
            earlier.push(want.clone());
        }
    }
}

/// The lines of a block that stood within another, without the blanks that all of them begin with.
fn indented_away(text: &[u8]) -> Vec<u8> {
    let lines: Vec<&[u8]> = text.split_inclusive(|byte| *byte == b'\n').collect();
    let blanks = |line: &&[u8]| line.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
    let common = lines.iter().filter(|line| !line.trim_ascii().is_empty()).map(blanks).min().unwrap_or(0);
    let rest = |line: &&[u8]| line[common.min(blanks(line))..].to_vec();
    let mut text: Vec<u8> = lines.iter().flat_map(rest).collect();
    if !text.ends_with(b"\n") {
        text.push(b'\n');
    }
    text
}
