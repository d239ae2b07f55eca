//! The sandbox of a server's unit (systemd.exec(5), "Sandboxing"), as far as it keeps files from the server.

use camino::{Utf8Path, Utf8PathBuf};

use crate::shell::word;

/// A unit's settings.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sandbox {
    unit: String,
    settings: Vec<(String, String)>,
}

/// A path that a unit's sandbox keeps from its server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hidden {
    /// The path.
    pub path: Utf8PathBuf,
    /// The unit, such as `nginx.service`.
    pub unit: String,
    /// The setting, such as `PrivateTmp=yes`.
    pub setting: String,
    /// The lines of a drop-in that let the server through.
    pub lines: Vec<String>,
}

/// The folders of `PrivateTmp` and of `ProtectHome`.
const TEMPORARY: [&str; 2] = ["/tmp", "/var/tmp"];
const HOMES: [&str; 3] = ["/home", "/root", "/run/user"];

impl Sandbox {
    /// The properties to ask for.
    pub const PROPERTIES: [&str; 8] = [
        "PrivateTmp",
        "ProtectHome",
        "InaccessiblePaths",
        "TemporaryFileSystem",
        "BindPaths",
        "BindReadOnlyPaths",
        "ReadOnlyPaths",
        "ReadWritePaths",
    ];

    /// Reads what `systemctl show --property=…` prints for a unit: a line for each property.
    pub fn read(unit: &str, shown: &str) -> Self {
        let pairs = shown.lines().filter_map(|line| line.split_once('='));
        let is_set = |value: &str| !matches!(value.trim(), "" | "no" | "disconnected");
        let settings =
            pairs.filter(|(_, value)| is_set(value)).map(|(key, value)| (key.to_owned(), value.trim().to_owned()));
        Self { unit: unit.to_owned(), settings: settings.collect() }
    }

    fn value(&self, key: &str) -> Option<&str> {
        self.settings.iter().find(|(own, _)| own == key).map(|(_, value)| value.as_str())
    }

    /// The paths of a list setting, each as it is written and as a path: `-` and `+` may come before it, `:` behind.
    fn paths(&self, key: &str) -> impl Iterator<Item = (&str, &Utf8Path)> {
        let entries = self.value(key).unwrap_or_default().split_ascii_whitespace();
        entries.map(|entry| {
            let path = entry.trim_start_matches(['-', '+']);
            (entry, Utf8Path::new(path.split(':').next().unwrap_or(path)))
        })
    }

    /// Whether a path is there though what is around it is hidden.
    fn is_bound(&self, path: &Utf8Path) -> bool {
        let inside = |entry: &str| {
            let entry = entry.trim_start_matches(['-', '+']);
            // SOURCE:DESTINATION:OPTIONS, or one path for both.
            let destination = entry.split(':').nth(1).unwrap_or(entry.split(':').next().unwrap_or(entry));
            path.starts_with(destination)
        };
        let mut all = ["BindPaths", "BindReadOnlyPaths"].into_iter().flat_map(|key| self.paths(key));
        all.any(|(entry, _)| inside(entry))
    }

    /// Why the server doesn't see a path, if it doesn't. `path` has no links.
    pub fn hides(&self, path: &Utf8Path) -> Option<Hidden> {
        if self.is_bound(path) {
            return None;
        }
        let is_below = |folders: &[&str]| folders.iter().any(|folder| path.starts_with(folder));
        let bind = format!("BindReadOnlyPaths=-{path}");
        let hidden = |key: &str, value: &str, lines: Vec<String>| {
            Some(Hidden { path: path.to_owned(), unit: self.unit.clone(), setting: format!("{key}={value}"), lines })
        };
        if let Some((entry, _)) = self.paths("InaccessiblePaths").find(|(_, own)| path.starts_with(own)) {
            let rest: Vec<&str> =
                self.paths("InaccessiblePaths").map(|(entry, _)| entry).filter(|own| *own != entry).collect();
            // An empty value takes back what was set before.
            let mut lines = vec!["InaccessiblePaths=".to_owned()];
            lines.extend((!rest.is_empty()).then(|| format!("InaccessiblePaths={}", rest.join(" "))));
            return hidden("InaccessiblePaths", entry, lines);
        }
        if let Some(value) = self.value("PrivateTmp").filter(|_| is_below(&TEMPORARY)) {
            return hidden("PrivateTmp", value, vec![bind]);
        }
        match self.value("ProtectHome").filter(|_| is_below(&HOMES)) {
            Some(value @ ("yes" | "true")) => {
                return hidden("ProtectHome", value, vec!["ProtectHome=tmpfs".to_owned(), bind]);
            }
            Some("tmpfs") => return hidden("ProtectHome", "tmpfs", vec![bind]),
            _ => {}
        }
        let (entry, _) = self.paths("TemporaryFileSystem").find(|(_, own)| path.starts_with(own))?;
        hidden("TemporaryFileSystem", entry, vec![bind])
    }

    /// Why the server can't write below a path, if it can't.
    pub fn locks(&self, path: &Utf8Path) -> Option<Hidden> {
        let longest = |key: &str| {
            self.paths(key).filter(|(_, own)| path.starts_with(own)).map(|(_, own)| own.as_str().len()).max()
        };
        let (entry, own) = self.paths("ReadOnlyPaths").find(|(_, own)| path.starts_with(own))?;
        if longest("ReadWritePaths").is_some_and(|open| open >= own.as_str().len()) {
            return None;
        }
        let lines = vec![format!("ReadWritePaths=-{path}")];
        Some(Hidden {
            path: path.to_owned(),
            unit: self.unit.clone(),
            setting: format!("ReadOnlyPaths={entry}"),
            lines,
        })
    }
}

impl Hidden {
    /// The same with further lines, for what else is hidden.
    #[must_use]
    pub fn and(mut self, other: Option<Self>) -> Self {
        for line in other.into_iter().flat_map(|other| other.lines) {
            if !self.lines.contains(&line) {
                self.lines.push(line);
            }
        }
        self
    }

    /// The command that lets the server through: it writes a drop-in of this name, and restarts the unit.
    pub fn let_through(&self, name: &str) -> String {
        let text = format!("[Service]\\n{}\\n", self.lines.join("\\n"));
        let file = format!("/etc/systemd/system/{}.d/yandro-{name}.conf", self.unit);
        format!(
            "printf {} | sudo install -D -m 644 /dev/stdin {} && sudo systemctl daemon-reload && sudo systemctl restart {}",
            word(&text),
            word(&file),
            word(self.unit.trim_end_matches(".service"))
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hidden(shown: &str, path: &str) -> Option<String> {
        let hidden = Sandbox::read("nginx.service", shown).hides(Utf8Path::new(path))?;
        Some(format!("{}: {}", hidden.setting, hidden.lines.join("; ")))
    }

    #[test]
    fn what_a_unit_hides_is_found_by_its_settings() {
        let told = |shown, path| hidden(shown, path).unwrap_or_default();
        assert_eq!(
            told("PrivateTmp=yes\nProtectHome=no\n", "/tmp/tides"),
            "PrivateTmp=yes: BindReadOnlyPaths=-/tmp/tides"
        );
        assert_eq!(told("PrivateTmp=yes\n", "/tmpfiles/tides"), "");
        assert_eq!(told("PrivateTmp=no\n", "/tmp/tides"), "");
        assert_eq!(told("PrivateTmp=yes\nBindReadOnlyPaths=/tmp/tides:/tmp/tides:rbind\n", "/tmp/tides/public"), "");
        assert_eq!(
            told("ProtectHome=yes\n", "/home/ada/tides"),
            "ProtectHome=yes: ProtectHome=tmpfs; BindReadOnlyPaths=-/home/ada/tides"
        );
        assert_eq!(told("ProtectHome=read-only\n", "/home/ada/tides"), "");
        assert_eq!(
            told("InaccessiblePaths=/srv/a -/srv/tides /srv/b\n", "/srv/tides/public"),
            "InaccessiblePaths=-/srv/tides: InaccessiblePaths=; InaccessiblePaths=/srv/a /srv/b"
        );
        assert_eq!(
            told("TemporaryFileSystem=/srv:ro\n", "/srv/tides"),
            "TemporaryFileSystem=/srv:ro: BindReadOnlyPaths=-/srv/tides"
        );
        let locks = |shown: &str| Sandbox::read("a", shown).locks(Utf8Path::new("/var/log/nginx")).is_some();
        assert!(locks("ReadOnlyPaths=/var"));
        assert!(!locks("ReadOnlyPaths=/var\nReadWritePaths=/var/log"));
        assert!(!locks("ReadOnlyPaths=/srv"));
    }

    #[test]
    fn the_command_writes_a_drop_in() {
        let sandbox = Sandbox::read("nginx.service", "ProtectHome=tmpfs\n");
        let of = |path: &str| sandbox.hides(Utf8Path::new(path));
        let hidden = of("/home/ada/tides").unwrap().and(of("/home/ada/.keys")).and(of("/srv"));
        assert_eq!(
            hidden.let_through("tides.test"),
            r"printf '[Service]\nBindReadOnlyPaths=-/home/ada/tides\nBindReadOnlyPaths=-/home/ada/.keys\n' | sudo install -D -m 644 /dev/stdin /etc/systemd/system/nginx.service.d/yandro-tides.test.conf && sudo systemctl daemon-reload && sudo systemctl restart nginx"
        );
    }
}
