//! Sending a file: whole, a part of it, or a compressed copy that lies beside it.

use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::time::UNIX_EPOCH;

use http_body_util::Full;
use hyper::body::Bytes;
use hyper::header::{
    ACCEPT_ENCODING, ACCEPT_RANGES, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, ETAG,
    HeaderValue, LAST_MODIFIED, SERVER, VARY,
};
use hyper::http::request::Parts;
use hyper::{Method, Response, StatusCode};

use super::conditions::{Part, Version};
use super::rules::{OpenFile, Opened, Rules};
use crate::body::{Body, NAME, text};
use crate::compress::{accepts, is_compressible};

/// A file of at most this many bytes is read at once; a longer one in pieces.
const AT_ONCE: u64 = 128 * 1024;
/// Endings of compressed copies, with their content coding; the better one first.
const COPIES: [(&str, &str); 2] = [("br", "br"), ("gz", "gzip")];

/// The answer that is this file.
pub(super) fn answer(rules: &Rules, file: OpenFile, request: &Parts, caching: &HeaderValue) -> Response<Body> {
    let media = mime_guess::from_path(&file.path).first_raw().unwrap_or("application/octet-stream");
    let copy = copy_of(rules, &file, media, request);
    let (OpenFile { file, meta, .. }, coding) = match copy {
        Some((copy, coding)) => (copy, Some(coding)),
        None => (file, None),
    };
    let version = Version::new(meta.modified().unwrap_or(UNIX_EPOCH), meta.len());
    let part = version.part(&request.headers, meta.len());
    let sent = content(file, meta.len(), &part, request.method == Method::HEAD);
    let (status, body, length) = match sent {
        Ok(sent) => sent,
        Err(error) => {
            return text(StatusCode::INTERNAL_SERVER_ERROR, format!("This file can't be read: {error}\n"));
        }
    };
    let mut answer = Response::new(body);
    *answer.status_mut() = status;
    let headers = answer.headers_mut();
    headers.reserve(9);
    headers.insert(SERVER, NAME);
    headers.insert(CACHE_CONTROL, caching.clone());
    headers.insert(ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    insert(headers, ETAG, version.etag);
    insert(headers, LAST_MODIFIED, httpdate::fmt_http_date(version.modified));
    if let Some(coding) = coding {
        headers.insert(CONTENT_ENCODING, HeaderValue::from_static(coding));
    }
    if is_compressible(media) {
        headers.insert(VARY, HeaderValue::from_static("accept-encoding"));
    }
    match part {
        Part::NotModified | Part::Failed => return answer,
        Part::NoSuchBytes => insert(headers, CONTENT_RANGE, format!("bytes */{}", meta.len())),
        Part::Bytes(range) => {
            insert(headers, CONTENT_RANGE, format!("bytes {}-{}/{}", range.start(), range.end(), meta.len()));
        }
        Part::Whole => {}
    }
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(media));
    headers.insert(CONTENT_LENGTH, length.into());
    answer
}

/// Inserts a value of plain ASCII.
fn insert(headers: &mut hyper::HeaderMap, name: hyper::header::HeaderName, value: String) {
    if let Ok(value) = HeaderValue::try_from(value) {
        headers.insert(name, value);
    }
}

/// A compressed copy beside a file that the client takes. One that is older than the file is not of it any more.
fn copy_of(rules: &Rules, file: &OpenFile, media: &str, request: &Parts) -> Option<(OpenFile, &'static str)> {
    let accepted = request.headers.get(ACCEPT_ENCODING)?.to_str().ok()?;
    if !is_compressible(media) {
        return None;
    }
    let below = file.path.strip_prefix(&rules.root).ok()?;
    COPIES.iter().filter(|(_, coding)| accepts(accepted, coding)).find_map(|(ending, coding)| {
        let Opened::File(copy) = rules.open(format!("{below}.{ending}").as_ref()) else { return None };
        let is_current = copy.meta.modified().ok()? >= file.meta.modified().ok()?;
        is_current.then_some((copy, *coding))
    })
}

/// The status, the body and its length in bytes.
fn content(mut file: File, length: u64, part: &Part, head: bool) -> io::Result<(StatusCode, Body, u64)> {
    let (status, start, length) = match part {
        Part::Whole => (StatusCode::OK, 0, length),
        Part::Bytes(range) => (StatusCode::PARTIAL_CONTENT, *range.start(), range.end() - range.start() + 1),
        Part::NotModified => return Ok((StatusCode::NOT_MODIFIED, Body::empty(), 0)),
        Part::Failed => return Ok((StatusCode::PRECONDITION_FAILED, Body::empty(), 0)),
        Part::NoSuchBytes => return Ok((StatusCode::RANGE_NOT_SATISFIABLE, Body::empty(), 0)),
    };
    if head {
        return Ok((status, Body::empty(), length));
    }
    if start > 0 {
        file.seek(SeekFrom::Start(start))?;
    }
    if length > AT_ONCE {
        return Ok((status, Body::of_file(file, length), length));
    }
    let mut bytes = Vec::with_capacity(usize::try_from(length).unwrap_or(0));
    file.take(length).read_to_end(&mut bytes)?;
    // It may have become shorter since.
    let length = bytes.len() as u64;
    Ok((status, Body::Whole(Full::new(Bytes::from(bytes))), length))
}
