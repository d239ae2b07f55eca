//! How Apache httpd's files are written.

use crate::config::Syntax;

/// Apache httpd's syntax.
#[derive(Clone, Copy, Debug)]
pub(super) struct ApacheSyntax;

impl Syntax for ApacheSyntax {
    fn directive(&self, name: &str, arguments: &[String]) -> String {
        format!("{name} {}", self.quoted_all(arguments))
    }

    fn open(&self, name: &str, arguments: &[String]) -> String {
        format!("<{name} {}>", self.quoted_all(arguments))
    }

    fn close(&self, name: &str) -> String {
        format!("</{name}>")
    }

    fn quoted(&self, argument: &str) -> String {
        quoted(argument)
    }

    fn is_repeated(&self, _: &str) -> bool {
        false
    }
}

/// An argument as the server reads it back: in double quotes where it has to be.
pub(super) fn quoted(argument: &str) -> String {
    let is_plain = !argument.is_empty()
        && argument.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:/*^%{}$=,[]+@~".contains(&b));
    if is_plain && (argument == "/" || !argument.starts_with('/')) {
        return argument.to_owned();
    }
    let mut out = String::from("\"");
    for c in argument.chars() {
        if matches!(c, '"' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}
