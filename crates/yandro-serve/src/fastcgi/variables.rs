//! The variables of a request, as CGI has them (RFC 3875 section 4.1).

use camino::Utf8Path;
use hyper::HeaderMap;
use hyper::Version;
use hyper::header::{CONTENT_LENGTH, CONTENT_TYPE, COOKIE, HOST, HeaderName};
use yandro_core::{HostPort, SiteVariable, VariableValue};

use super::Script;
use crate::respond::Asked;

/// Headers that don't become variables: those with variables of their own, and `Proxy`, which programs would take for their
/// setting `HTTP_PROXY`.
const LEFT_OUT: [HeaderName; 4] = [CONTENT_LENGTH, CONTENT_TYPE, HOST, HeaderName::from_static("proxy")];

/// Those of a request for a PHP file, whose body has this length in bytes.
pub(super) fn of(
    root: &Utf8Path,
    own: &[SiteVariable],
    asked: &Asked<'_>,
    script: &Script,
    length: u64,
) -> Vec<(String, Vec<u8>)> {
    let request = asked.request;
    let (host, port) = HostPort::split(asked.authority());
    let usual = if asked.scheme == "https" { "443" } else { "80" };
    let target = request.uri.path_and_query().map_or("/", |target| target.as_str());
    let mut all: Vec<(String, Vec<u8>)> = Vec::with_capacity(32);
    let mut set = |name: &str, value: &str| all.push((name.to_owned(), value.as_bytes().to_vec()));
    set("GATEWAY_INTERFACE", "CGI/1.1");
    set("SERVER_SOFTWARE", "yandro");
    set("SERVER_PROTOCOL", if request.version == Version::HTTP_2 { "HTTP/2.0" } else { "HTTP/1.1" });
    set("SERVER_NAME", host);
    set("SERVER_PORT", port.unwrap_or(usual));
    set("REQUEST_SCHEME", asked.scheme);
    if asked.scheme == "https" {
        set("HTTPS", "on");
    }
    set("REQUEST_METHOD", request.method.as_str());
    set("REQUEST_URI", target);
    set("QUERY_STRING", request.uri.query().unwrap_or_default());
    set("DOCUMENT_ROOT", root.as_str());
    set("DOCUMENT_URI", &format!("{}{}", script.name, script.info));
    set("SCRIPT_NAME", &script.name);
    set("SCRIPT_FILENAME", script.file.as_str());
    if !script.info.is_empty() {
        set("PATH_INFO", &script.info);
        set("PATH_TRANSLATED", &format!("{root}{}", script.info));
    }
    // php-cgi runs nothing without it.
    set("REDIRECT_STATUS", "200");
    set("REMOTE_ADDR", &asked.client.ip().to_string());
    set("REMOTE_PORT", &asked.client.port().to_string());
    set("HTTP_HOST", asked.authority());
    if length > 0 || request.headers.contains_key(CONTENT_LENGTH) {
        set("CONTENT_LENGTH", &length.to_string());
    }
    if let Some(media) = request.headers.get(CONTENT_TYPE) {
        all.push(("CONTENT_TYPE".to_owned(), media.as_bytes().to_vec()));
    }
    all.extend(of_headers(&request.headers));
    all.extend(own.iter().filter_map(value));
    all
}

/// The headers as variables. A name with an underscore is left out: it would pass for another one.
fn of_headers(headers: &HeaderMap) -> impl Iterator<Item = (String, Vec<u8>)> + '_ {
    let named = headers.keys().filter(|name| !LEFT_OUT.contains(name) && !name.as_str().contains('_'));
    named.map(|name| {
        // HTTP/2 sends cookies apart (RFC 9113 section 8.2.3).
        let between: &[u8] = if *name == COOKIE { b"; " } else { b", " };
        let values: Vec<&[u8]> = headers.get_all(name).iter().map(hyper::header::HeaderValue::as_bytes).collect();
        (format!("HTTP_{}", name.as_str().to_ascii_uppercase().replace('-', "_")), values.join(between))
    })
}

/// A variable of the site's with its value; a secret is read anew each time.
fn value(variable: &SiteVariable) -> Option<(String, Vec<u8>)> {
    match &variable.value {
        VariableValue::Text(value) => Some((variable.name.clone(), value.clone().into_bytes())),
        VariableValue::File(path) => {
            let content = std::fs::read(path).ok()?;
            let content = content.strip_suffix(b"\n").unwrap_or(&content);
            Some((variable.name.clone(), content.strip_suffix(b"\r").unwrap_or(content).to_vec()))
        }
    }
}
