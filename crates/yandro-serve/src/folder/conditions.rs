//! Conditional requests and ranges (RFC 9110 sections 13 and 14).

use std::ops::RangeInclusive;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use http_range_header::parse_range_header;
use hyper::HeaderMap;
use hyper::header::{HeaderName, IF_MATCH, IF_MODIFIED_SINCE, IF_NONE_MATCH, IF_RANGE, IF_UNMODIFIED_SINCE, RANGE};

/// A state of a file.
#[derive(Debug)]
pub(super) struct Version {
    /// Its entity tag, with quotes.
    pub(super) etag: String,
    /// When it was changed, in whole seconds as headers have it.
    pub(super) modified: SystemTime,
}

/// What the conditions of a request ask for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    Whole,
    /// These bytes.
    Bytes(RangeInclusive<u64>),
    /// Nothing: the client has it.
    NotModified,
    /// Nothing: the client speaks of another version.
    Failed,
    /// Bytes that the file doesn't have.
    NoSuchBytes,
}

impl Version {
    /// That of a file that was changed then and has this length, in bytes. A file that is written twice within the clock's
    /// grain with the same length would look the same.
    pub(super) fn new(modified: SystemTime, length: u64) -> Self {
        let since = modified.duration_since(UNIX_EPOCH).unwrap_or_default();
        let etag = format!("\"{:x}-{:x}-{length:x}\"", since.as_secs(), since.subsec_nanos());
        Self { etag, modified: UNIX_EPOCH + Duration::from_secs(since.as_secs()) }
    }

    /// What of it a request asks for, of `length` bytes.
    pub(super) fn part(&self, headers: &HeaderMap, length: u64) -> Part {
        let field = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
        let date = |name: HeaderName| field(name).and_then(|value| httpdate::parse_http_date(value).ok());
        let holds = match (field(IF_MATCH), date(IF_UNMODIFIED_SINCE)) {
            (Some(tags), _) => self.is_one_of(tags, false),
            (None, Some(date)) => self.modified <= date,
            (None, None) => true,
        };
        if !holds {
            return Part::Failed;
        }
        let is_known = match (field(IF_NONE_MATCH), date(IF_MODIFIED_SINCE)) {
            (Some(tags), _) => self.is_one_of(tags, true),
            (None, Some(date)) => self.modified <= date,
            (None, None) => false,
        };
        if is_known {
            return Part::NotModified;
        }
        match field(RANGE) {
            Some(range) if self.is_still(field(IF_RANGE)) => of_range(range, length),
            _ => Part::Whole,
        }
    }

    /// Whether one of these entity tags is its own. Weak ones count where the bytes needn't be the same.
    fn is_one_of(&self, tags: &str, weak: bool) -> bool {
        tags.split(',').map(str::trim).any(|tag| match tag.strip_prefix("W/") {
            _ if tag == "*" => true,
            Some(tag) => weak && tag == self.etag,
            None => tag == self.etag,
        })
    }

    /// Whether a range of the version that the client has fits.
    fn is_still(&self, if_range: Option<&str>) -> bool {
        match if_range {
            None => true,
            Some(tag) if tag.starts_with(['"', 'W']) && !tag.starts_with("Wed") => tag == self.etag,
            Some(date) => httpdate::parse_http_date(date).is_ok_and(|date| date == self.modified),
        }
    }
}

/// One range; several are answered by the whole file, as RFC 9110 section 14.2 allows.
fn of_range(range: &str, length: u64) -> Part {
    let Ok(ranges) = parse_range_header(range) else { return Part::Whole };
    match ranges.validate(length) {
        Ok(mut ranges) if ranges.len() == 1 => Part::Bytes(ranges.remove(0)),
        Ok(_) => Part::Whole,
        Err(_) => Part::NoSuchBytes,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_and_ranges_are_read_as_the_standard_says() {
        let version = Version::new(UNIX_EPOCH + Duration::new(784_111_777, 5), 10);
        let (etag, own, earlier) =
            (version.etag.clone(), "Sun, 06 Nov 1994 08:49:37 GMT", "Sun, 06 Nov 1994 08:49:36 GMT");
        let weak = format!("W/{etag}");
        let listed = format!("\"x\", {etag}");
        let cases: &[(&[(HeaderName, &str)], Part)] = &[
            (&[], Part::Whole),
            (&[(IF_NONE_MATCH, &etag)], Part::NotModified),
            (&[(IF_NONE_MATCH, &weak)], Part::NotModified),
            (&[(IF_NONE_MATCH, &listed)], Part::NotModified),
            (&[(IF_NONE_MATCH, "*")], Part::NotModified),
            (&[(IF_NONE_MATCH, "\"x\""), (IF_MODIFIED_SINCE, own)], Part::Whole),
            (&[(IF_MODIFIED_SINCE, own)], Part::NotModified),
            (&[(IF_MODIFIED_SINCE, earlier)], Part::Whole),
            (&[(IF_MODIFIED_SINCE, "yesterday")], Part::Whole),
            (&[(IF_MATCH, "\"x\"")], Part::Failed),
            (&[(IF_MATCH, &weak)], Part::Failed),
            (&[(IF_MATCH, &etag), (IF_UNMODIFIED_SINCE, earlier)], Part::Whole),
            (&[(IF_UNMODIFIED_SINCE, earlier)], Part::Failed),
            (&[(RANGE, "bytes=2-4")], Part::Bytes(2..=4)),
            (&[(RANGE, "bytes=-3")], Part::Bytes(7..=9)),
            (&[(RANGE, "bytes=8-")], Part::Bytes(8..=9)),
            (&[(RANGE, "bytes=8-99")], Part::Bytes(8..=9)),
            (&[(RANGE, "bytes=10-")], Part::NoSuchBytes),
            (&[(RANGE, "bytes=0-1,4-5")], Part::Whole),
            (&[(RANGE, "miles=0-1")], Part::Whole),
            (&[(RANGE, "bytes=2-4"), (IF_RANGE, &etag)], Part::Bytes(2..=4)),
            (&[(RANGE, "bytes=2-4"), (IF_RANGE, &weak)], Part::Whole),
            (&[(RANGE, "bytes=2-4"), (IF_RANGE, own)], Part::Bytes(2..=4)),
            (&[(RANGE, "bytes=2-4"), (IF_RANGE, "Wed, 09 Nov 1994 08:49:37 GMT")], Part::Whole),
        ];
        for (fields, expected) in cases {
            let fields = fields.iter().map(|(name, value)| (name.clone(), value.parse().unwrap()));
            let headers: HeaderMap = fields.collect();
            assert_eq!(version.part(&headers, 10), *expected, "{headers:?}");
        }
    }
}
