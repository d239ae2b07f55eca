//! The head of a CGI answer (RFC 3875 section 6).

use hyper::header::{CONNECTION, HeaderName, HeaderValue, LOCATION, TRANSFER_ENCODING, UPGRADE};
use hyper::{HeaderMap, StatusCode};

/// The longest head, in bytes.
const LONGEST: usize = 256 * 1024;

/// A head that can't be used.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub(super) enum HeadError {
    #[error("its answer has no headers")]
    Missing,
    #[error("the headers of its answer are longer than 256 KiB")]
    TooLong,
    #[error("a header of its answer can't be read: `{0}`")]
    Line(String),
}

/// A head, and the beginning of the body.
type Split<'a> = (&'a [u8], &'a [u8]);

/// Splits what came so far into the head and the beginning of the body; `None` while the head goes on.
pub(super) fn split(came: &[u8]) -> Result<Option<Split<'_>>, HeadError> {
    let mut start = 0;
    while let Some(length) = came[start..].iter().position(|byte| *byte == b'\n') {
        let line = &came[start..start + length];
        let next = start + length + 1;
        if line.is_empty() || line == b"\r" {
            return Ok(Some((&came[..start], &came[next..])));
        }
        start = next;
    }
    if came.len() > LONGEST { Err(HeadError::TooLong) } else { Ok(None) }
}

/// Reads a head: the status, and the headers that are the page's.
pub(super) fn read(head: &[u8]) -> Result<(StatusCode, HeaderMap), HeadError> {
    let (mut status, mut headers) = (None, HeaderMap::new());
    for line in head.split(|byte| *byte == b'\n') {
        let line = line.trim_ascii();
        if line.is_empty() {
            continue;
        }
        let unreadable = || HeadError::Line(String::from_utf8_lossy(line).chars().take(80).collect());
        let colon = line.iter().position(|byte| *byte == b':').ok_or_else(unreadable)?;
        let (name, value) = (&line[..colon], line[colon + 1..].trim_ascii());
        if name.eq_ignore_ascii_case(b"status") {
            let code = value.split(|byte| *byte == b' ').next().unwrap_or_default();
            status = Some(StatusCode::from_bytes(code).map_err(|_| unreadable())?);
            continue;
        }
        let name = HeaderName::from_bytes(name).map_err(|_| unreadable())?;
        let value = HeaderValue::from_bytes(value).map_err(|_| unreadable())?;
        headers.append(name, value);
    }
    if status.is_none() && headers.is_empty() {
        return Err(HeadError::Missing);
    }
    // They belong to a connection, and this answer has another one.
    for name in [CONNECTION, TRANSFER_ENCODING, UPGRADE, HeaderName::from_static("keep-alive")] {
        headers.remove(name);
    }
    let led_away = headers.contains_key(LOCATION).then_some(StatusCode::FOUND);
    Ok((status.or(led_away).unwrap_or(StatusCode::OK), headers))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_are_read_however_they_come() {
        let of = |text: &str| {
            let (head, rest) = split(text.as_bytes()).unwrap().unwrap();
            let (status, headers) = read(head).unwrap();
            let lines = headers.iter().map(|(name, value)| format!("{name}={}", value.to_str().unwrap()));
            (status.as_u16(), lines.collect::<Vec<_>>().join(" "), String::from_utf8_lossy(rest).into_owned())
        };
        assert_eq!(of("Content-Type: text/html\r\n\r\n<p>"), (200, "content-type=text/html".into(), "<p>".into()));
        assert_eq!(of("Status: 404 Not Found\nX-Tide: a:b \n\nno\n\n"), (404, "x-tide=a:b".into(), "no\n\n".into()));
        assert_eq!(of("Location: /tides\r\n\r\n"), (302, "location=/tides".into(), String::new()));
        assert_eq!(
            of("Status: 301\r\nLocation: /\r\nSet-Cookie: a\r\nSet-Cookie: b\r\nConnection: close\r\n\r\n"),
            (301, "location=/ set-cookie=a set-cookie=b".into(), String::new())
        );
        assert_eq!(split(b"Content-Type: text/html\r\n"), Ok(None));
        assert_eq!(split(&vec![b'x'; LONGEST + 1]), Err(HeadError::TooLong));
        assert_eq!(read(b""), Err(HeadError::Missing));
        for bad in ["nonsense", "Status: fine", "a b: c", "X: a\rb"] {
            assert_eq!(read(bad.as_bytes()), Err(HeadError::Line(bad.into())), "{bad}");
        }
    }
}
