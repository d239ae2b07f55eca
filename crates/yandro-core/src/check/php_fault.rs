//! Faults of PHP in a server's log or a page.

use super::codes::Cause;
use super::finding::{Diagnosis, Evidence};
use super::remedy::Remedy;
use crate::config::Place;

/// PHP's messages for faults that end a request.
const ENDING: [&str; 2] = ["PHP Fatal error:", "PHP Parse error:"];

/// The message and the place of a fault that ended a request, in an entry of a log: `MESSAGE in FILE:LINE` with what was
/// called behind it, or `MESSAGE in FILE on line LINE`. Line ends are in it as such, or as `\n`.
pub(super) fn php_fault(entry: &str) -> Option<(String, Place)> {
    let rest = ENDING.iter().find_map(|head| entry.split_once(head))?.1.trim_start();
    let (message, rest) = rest.split_once(" in /")?;
    let end = [rest.find("\\n"), rest.find('\n')].into_iter().flatten().min().unwrap_or(rest.len());
    let first = rest[..end].split(", client: ").next()?;
    let (file, line) = first.split_once(" on line ").or_else(|| first.rsplit_once(':'))?;
    let digits = line.split(|c: char| !c.is_ascii_digit()).next()?;
    Some((message.to_owned(), Place { file: format!("/{file}"), line: digits.parse().ok()? }))
}

/// The finding for it.
pub(super) fn php_fault_at(message: &str, place: &Place) -> Diagnosis {
    let cause = Cause::PhpFault { message: message.to_owned() };
    Diagnosis::new(cause).seen(Evidence::At(place.clone())).fix(Remedy::Edit(place.clone()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_place_is_found_in_each_form() {
        for (entry, message, place) in [
            (
                r"[proxy_fcgi:error] [pid 52] AH01071: Got error 'PHP message: PHP Fatal error:  Uncaught Exception: no tide table in /srv/my boats/index.php:3\nStack trace:\n#0 /srv/my boats/index.php(5): tide()\n#1 {main}\n  thrown in /srv/my boats/index.php on line 3'",
                "Uncaught Exception: no tide table",
                "/srv/my boats/index.php:3",
            ),
            (
                "2026/11/27 15:12:43 [error] 66#66: *1 FastCGI sent in stderr: \"PHP message: PHP Fatal error:  Uncaught Error: Call to undefined function tide() in /srv/index.php:12\nStack trace:\n#0 {main}\n  thrown in /srv/index.php on line 12\" while reading",
                "Uncaught Error: Call to undefined function tide()",
                "/srv/index.php:12",
            ),
            (
                "2026/11/27 15:12:43 [error] 0#0: PHP message: PHP Fatal error:  Uncaught Error: no tide in /srv/index.php:12, client: ::1, request: \"GET / HTTP/1.1\", host: \"shop.localhost\"\n Stack trace:\n",
                "Uncaught Error: no tide",
                "/srv/index.php:12",
            ),
            (
                "PHP message: PHP Parse error:  syntax error, unexpected token \"}\" in /srv/index.php on line 7, referer: x",
                "syntax error, unexpected token \"}\"",
                "/srv/index.php:7",
            ),
        ] {
            let (words, found) = php_fault(entry).unwrap();
            assert_eq!((words.as_str(), found.to_string().as_str()), (message, place));
        }
        for other in
            ["PHP Warning:  tide in /srv/index.php on line 7", "PHP Fatal error:  tide", "PHP Fatal error: in /x on"]
        {
            assert_eq!(php_fault(other), None, "{other}");
        }
    }
}
