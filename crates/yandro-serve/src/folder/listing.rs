//! The page that lists a folder without an index.

use std::fmt::Write as _;
use std::time::{SystemTime, UNIX_EPOCH};

use camino::Utf8Path;
use hyper::header::{CACHE_CONTROL, CONTENT_TYPE, HeaderValue};
use hyper::{Response, StatusCode};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::rules::{Opened, Rules, is_hidden};
use crate::body::{Body, text};

/// The bytes of a name that stay as they are in a URL.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
const STYLE: &str = include_str!("listing.css");

struct Entry {
    name: String,
    is_folder: bool,
    length: u64,
    modified: SystemTime,
}

/// The page for a folder, which is `below` the document root. It lists what is served of it.
pub(super) fn answer(rules: &Rules, below: &Utf8Path, folder: &Utf8Path, caching: &HeaderValue) -> Response<Body> {
    let names = match folder.read_dir_utf8() {
        Ok(entries) => entries.flatten().map(|entry| entry.file_name().to_owned()),
        Err(error) => return text(StatusCode::FORBIDDEN, format!("This folder can't be listed: {error}\n")),
    };
    let mut entries: Vec<Entry> = names.filter_map(|name| entry(rules, below, name)).collect();
    entries.sort_by_key(|entry| (!entry.is_folder, entry.name.to_lowercase(), entry.name.clone()));
    let mut answer = text(StatusCode::OK, page(below, &entries));
    answer.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    answer.headers_mut().insert(CACHE_CONTROL, caching.clone());
    answer
}

fn entry(rules: &Rules, below: &Utf8Path, name: String) -> Option<Entry> {
    if is_hidden(&name) {
        return None;
    }
    let (meta, is_folder) = match rules.open(&below.join(&name)) {
        Opened::File(file) => (file.meta, false),
        Opened::Folder(path) => (path.metadata().ok()?, true),
        Opened::Nothing | Opened::Withheld => return None,
    };
    Some(Entry { name, is_folder, length: meta.len(), modified: meta.modified().unwrap_or(UNIX_EPOCH) })
}

fn page(below: &Utf8Path, entries: &[Entry]) -> String {
    let path = escaped(&format!("/{}", below.as_str().replace('\\', "/")));
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>Files in {path}</title>\n<style>\n{STYLE}</style>\n<h1>Files in {path}</h1>\n"
    );
    if entries.is_empty() {
        page.push_str("<p>This folder has no files that are served.</p>\n");
    } else {
        page.push_str("<table>\n<tr><th>Name</th><th class=\"size\">Size</th><th>Changed (UTC)</th></tr>\n");
    }
    if !below.as_str().is_empty() {
        page.insert_str(page.find("<h1>").unwrap_or(0), "<p><a href=\"../\">Up one folder</a></p>\n");
    }
    for entry in entries {
        let slash = if entry.is_folder { "/" } else { "" };
        let link = utf8_percent_encode(&entry.name, PLAIN);
        let size = if entry.is_folder { String::new() } else { size(entry.length) };
        let (name, changed) = (escaped(&entry.name), changed(entry.modified));
        _ = writeln!(
            page,
            "<tr><td><a href=\"./{link}{slash}\">{name}{slash}</a></td><td class=\"size\">{size}</td><td>{changed}</td></tr>"
        );
    }
    if !entries.is_empty() {
        page.push_str("</table>\n");
    }
    page.push_str("<p class=\"why\">There is no index file in this folder.</p>\n</html>\n");
    page
}

/// `2026-12-01 09:30`, of a date as headers have it.
fn changed(modified: SystemTime) -> String {
    let date = httpdate::fmt_http_date(modified);
    let months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    match date.split([' ', ':']).collect::<Vec<_>>()[..] {
        [_, day, month, year, hour, minute, ..] => {
            let month = months.iter().position(|own| *own == month).map_or(0, |place| place + 1);
            format!("{year}-{month:02}-{day} {hour}:{minute}")
        }
        _ => date,
    }
}

fn size(length: u64) -> String {
    let units = [("GB", 1_000_000_000), ("MB", 1_000_000), ("kB", 1000)];
    match units.iter().find(|(_, unit)| length >= *unit) {
        Some((name, unit)) => format!("{}.{} {name}", length / unit, length % unit * 10 / unit),
        None => format!("{length} B"),
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
