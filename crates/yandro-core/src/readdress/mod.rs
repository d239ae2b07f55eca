//! Giving an application its new address: every place in its files and database that names an old one.

mod address;
mod scan;
mod serialised;
#[cfg(test)]
mod tests;

use std::ops::Range;

pub use address::{AppAddress, AppAddressError};

use scan::scan;
use serialised::{Header, headers};

/// A text with its new addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Readdressed {
    /// The new text.
    pub text: Vec<u8>,
    /// The places that changed: the old address and the new one, as they are written there.
    pub places: Vec<(String, String)>,
    /// The offsets of old addresses that were left: in a serialised string whose length doesn't fit.
    pub left: Vec<usize>,
}

/// Replaces the old addresses of an application in a text by its new one, and corrects the lengths of serialised
/// strings around them. `None` if no old address is there.
///
/// An address is found plain, without its scheme, escaped as in JSON (`http:\/\/`), percent-encoded, and as a host without a scheme,
/// at any nesting. It keeps its writing. A port or a path that isn't the old address's, a longer name, a mailbox, a path
/// in a file system and another scheme are left as they are.
pub fn readdress(text: &[u8], from: &[AppAddress], to: &AppAddress) -> Option<Readdressed> {
    let found = scan(text, from, to);
    if found.is_empty() {
        return None;
    }
    let headers = headers(text);
    let around = |span: &Range<usize>| -> Vec<&Header> {
        headers.iter().filter(|header| header.content.start <= span.start && span.end <= header.content.end).collect()
    };
    let (changed, left): (Vec<_>, Vec<_>) =
        found.into_iter().partition(|found| around(&found.span).iter().all(|header| header.fits));
    let mut edits: Vec<(Range<usize>, Vec<u8>)> =
        changed.iter().map(|found| (found.span.clone(), found.new.clone())).collect();
    let mut affected: Vec<&Header> = changed.iter().flat_map(|found| around(&found.span)).collect();
    // The inner strings first: a change of their digits changes the length of those around.
    affected.sort_by_key(|header| (header.content.len(), header.digits.start));
    affected.dedup();
    for header in affected {
        let content = edited(text, header.content.clone(), &edits);
        let digits = header.length_of(&content).to_string().into_bytes();
        let at = edits.partition_point(|(span, _)| span.start < header.digits.start);
        edits.insert(at, (header.digits.clone(), digits));
    }
    let words = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Some(Readdressed {
        text: edited(text, 0..text.len(), &edits),
        places: changed.iter().map(|found| (words(&text[found.span.clone()]), words(&found.new))).collect(),
        left: left.into_iter().map(|found| found.span.start).collect(),
    })
}

/// A part of a text, with the edits that are within it; they are in order.
fn edited(text: &[u8], part: Range<usize>, edits: &[(Range<usize>, Vec<u8>)]) -> Vec<u8> {
    let mut out = Vec::with_capacity(part.len());
    let mut at = part.start;
    let first = edits.partition_point(|(span, _)| span.start < part.start);
    for (span, new) in edits[first..].iter().take_while(|(span, _)| span.end <= part.end) {
        out.extend(&text[at..span.start]);
        out.extend(new);
        at = span.end;
    }
    out.extend(&text[at..part.end]);
    out
}
