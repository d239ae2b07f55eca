//! Commands that mend, as they are pasted into a shell.

use super::circumstances::PortHolder;
use crate::config::Place;
use crate::name::HostName;
use crate::shell::word;
use crate::site::ServerId;

/// Opens a file at a line, in the editor that the person has chosen.
pub(super) fn edit(place: &Place) -> String {
    format!("${{EDITOR:-vi}} +{} {}", place.line, word(&place.file))
}

/// Has a server take its files up.
pub(super) fn reload(server: ServerId) -> String {
    format!("yandro servers reload {}", server.word())
}

/// The same, or starts it where it doesn't run.
pub(super) fn bring_up(server: ServerId, runs: Option<bool>) -> String {
    let verb = if runs == Some(false) { "start" } else { "reload" };
    format!("yandro servers {verb} {}", server.word())
}

/// Puts back the lines of a site that were edited by hand.
pub(super) fn put_back(name: &HostName) -> String {
    format!("yandro settle --put-back {name}")
}

/// Has a site listen where neither it nor, as far as is known, anybody else does.
pub fn other_ports(site: &HostName, is_taken: impl Fn(u16) -> bool) -> String {
    let free = |first: u16| (first..first + 100).find(|port| !is_taken(*port)).unwrap_or(first);
    format!("yandro map {site} --http-port {} --https-port {}", free(8080), free(8443))
}

impl PortHolder {
    /// The command that gives the port to another server.
    pub fn remedy(&self, wanted: ServerId) -> String {
        let start = format!("yandro servers start {}", wanted.word());
        match (self.server, self.pid) {
            (Some(id), _) => format!("yandro servers stop {} && {start}", id.word()),
            (None, Some(pid)) => format!("{}kill {pid} && {start}", if self.is_anothers { "sudo " } else { "" }),
            // Which process it is shows itself to root alone.
            (None, None) => "sudo yandro ports".to_owned(),
        }
    }
}

/// Lets a server through to a folder that the system's guard keeps it from, by the guard's own words: a label
/// for `SELinux`, a rule of the local part of an `AppArmor` profile.
pub(super) fn unconfine(seen: &str, folder: &str) -> Option<String> {
    if seen.contains("avc:") && seen.contains("user_home_dir_t") {
        // Their own home folder is what stops it first.
        return Some("sudo setsebool -P httpd_enable_homedirs on".into());
    }
    if seen.contains("avc:") {
        return Some(format!("sudo chcon -R -t httpd_sys_content_t {}", word(folder)));
    }
    let profile = seen.split_once("profile=\"")?.1.split('"').next()?;
    let is_path = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
    if !profile.starts_with('/') || !profile.chars().all(is_path) {
        // Which file has a profile of such a name its own program finds out.
        return Some("sudo aa-logprof".to_owned());
    }
    // Debian and Ubuntu call a profile's file by its program's path.
    let file = profile.trim_start_matches('/').replace('/', ".");
    let rule = word(&format!("\"{folder}/**\" r,"));
    Some(format!(
        "echo {rule} | sudo tee -a /etc/apparmor.d/local/{file} && sudo apparmor_parser -r /etc/apparmor.d/{file}"
    ))
}
