//! The environment that a distribution's control program starts the server with.

use std::collections::BTreeMap;

/// Reads the `export NAME=VALUE` lines of a shell file such as Debian's `envvars`. Variables in a
/// value are replaced by those set above; others are empty. Nothing is run.
pub fn environment(text: &str) -> BTreeMap<String, String> {
    let mut found: BTreeMap<String, String> = BTreeMap::new();
    for line in text.lines() {
        let Some((name, value)) = line.trim().strip_prefix("export ").and_then(|rest| rest.split_once('=')) else {
            continue;
        };
        let value = value.trim().trim_matches(['"', '\'']);
        let value = expanded(value, &found);
        found.insert(name.trim().to_owned(), value);
    }
    found
}

fn expanded(value: &str, known: &BTreeMap<String, String>) -> String {
    let mut out = String::new();
    let mut rest = value;
    while let Some(start) = rest.find('$') {
        out += &rest[..start];
        let after = &rest[start + 1..];
        let braced = after.strip_prefix('{').and_then(|inner| inner.split_once('}'));
        let (name, length) = if let Some((name, _)) = braced {
            (name, name.len() + 2)
        } else {
            let length = after.bytes().take_while(|byte| byte.is_ascii_alphanumeric() || *byte == b'_').count();
            (&after[..length], length)
        };
        out += known.get(name).map_or("", String::as_str);
        rest = &after[length..];
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn debians_form_is_read() {
        let text = "unset HOME\nif [ x ]; then\n\tSUFFIX=\"-x\"\nfi\nexport APACHE_RUN_USER=www-data\nexport APACHE_LOG_DIR=/var/log/apache2$SUFFIX\nexport A=\"${APACHE_LOG_DIR}/a\"\n#export B=b\n";
        let found = environment(text);
        assert_eq!(found["APACHE_LOG_DIR"], "/var/log/apache2");
        assert_eq!(found["A"], "/var/log/apache2/a");
        assert_eq!(found.len(), 3);
    }
}
