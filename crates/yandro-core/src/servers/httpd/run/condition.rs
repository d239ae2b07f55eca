//! Sections that count or not: by module, by name, by version, by file.

use super::report::numbers;

/// The names by which `<IfModule>` knows a module that `LoadModule` loads: its identifier,
/// and its source as far as the name of the shared object tells it.
pub(super) fn names_of_loaded(identifier: &str, file: &str) -> Vec<String> {
    let base = file.rsplit('/').next().unwrap_or(file);
    let base = base.strip_suffix(".so").unwrap_or(base);
    let source = match base {
        "mod_mpm_event" => "event.c".to_owned(),
        "mod_mpm_worker" => "worker.c".to_owned(),
        "mod_mpm_prefork" => "prefork.c".to_owned(),
        _ if base.starts_with("libphp") => "mod_php.c".to_owned(),
        _ => format!("{base}.c"),
    };
    vec![identifier.to_owned(), source]
}

/// The names of a module that is built in.
pub(super) fn names_of_built_in(source: &str) -> Vec<String> {
    let base = source.strip_suffix(".c").unwrap_or(source);
    let identifier = match base {
        "http_core" => "http_module".to_owned(),
        _ => format!("{}_module", base.strip_prefix("mod_").unwrap_or(base)),
    };
    vec![source.to_owned(), identifier]
}

/// Whether the server's version fulfils the arguments of `<IfVersion>`; `None` for arguments
/// that are none.
pub(super) fn version_matches(server: [u32; 3], arguments: &[String]) -> Option<bool> {
    let (operator, wanted) = match arguments {
        [wanted] => ("=", wanted),
        [operator, wanted] => (operator.as_str(), wanted),
        _ => return None,
    };
    let (is_negated, operator) = match operator.strip_prefix('!') {
        Some(rest) => (true, rest),
        None => (false, operator),
    };
    let expression = wanted.strip_prefix('/').and_then(|rest| rest.strip_suffix('/'));
    let expression = if operator == "~" { Some(expression.unwrap_or(wanted)) } else { expression };
    let holds = match (operator, expression) {
        ("~" | "=" | "==" | "", Some(expression)) => {
            let text = format!("{}.{}.{}", server[0], server[1], server[2]);
            regex_lite::Regex::new(expression).ok()?.is_match(&text)
        }
        ("=" | "==" | "", None) => server == numbers(wanted),
        (">", None) => server > numbers(wanted),
        (">=", None) => server >= numbers(wanted),
        ("<", None) => server < numbers(wanted),
        ("<=", None) => server <= numbers(wanted),
        _ => return None,
    };
    Some(holds != is_negated)
}
