//! The php-fpm programs that are installed, which of them run, and the commands that start them.

use std::fs;

use crate::machine::Machine;

/// An installed program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PhpProgram {
    folder: &'static str,
    /// Its name, `php-fpm` with a version on Debian.
    name: String,
    /// Whether a process of it is there.
    pub(super) is_running: bool,
}

/// An action on php-fpm.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum PhpVerb {
    /// To start one that doesn't run.
    Start,
    /// To end one that runs, and start it.
    Restart,
}

/// The programs that are installed, the highest version first.
pub(super) fn programs(machine: &Machine) -> Vec<PhpProgram> {
    let running = running();
    let mut found: Vec<PhpProgram> = Vec::new();
    for folder in ["/usr/sbin", "/usr/local/sbin", "/opt/homebrew/sbin"] {
        let names = machine.real_path(folder).read_dir_utf8().into_iter().flatten().flatten();
        for name in names.map(|entry| entry.file_name().to_owned()) {
            let Some(version) = name.strip_prefix("php-fpm") else { continue };
            if version.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') {
                let is_running = machine.is_real() && running.contains(&name);
                found.push(PhpProgram { folder, name, is_running });
            }
        }
    }
    let version =
        |own: &PhpProgram| -> Vec<u32> { own.version().split('.').filter_map(|part| part.parse().ok()).collect() };
    found.sort_by_key(|own| std::cmp::Reverse(version(own)));
    found
}

/// The names of all processes that begin like php-fpm's (proc(5): `comm`, which every user may read).
fn running() -> Vec<String> {
    let all = fs::read_dir("/proc").into_iter().flatten().flatten();
    let names = all.filter_map(|entry| fs::read_to_string(entry.path().join("comm")).ok());
    names.map(|name| name.trim().to_owned()).filter(|name| name.starts_with("php-fpm")).collect()
}

impl PhpProgram {
    /// Its path.
    pub(super) fn path(&self) -> camino::Utf8PathBuf {
        format!("{}/{}", self.folder, self.name).into()
    }

    pub(super) fn version(&self) -> &str {
        self.name.trim_start_matches("php-fpm")
    }

    /// The command of this system that does it, as a person types it.
    pub(super) fn command(&self, machine: &Machine, verb: PhpVerb) -> String {
        match (verb, self.service(machine, verb)) {
            (_, Some(words)) => format!("sudo {}", words.join(" ")),
            (PhpVerb::Start, None) => format!("sudo {}", self.path()),
            (PhpVerb::Restart, None) => {
                format!("sudo pkill -QUIT -x {} && sleep 1 && sudo {}", self.name, self.path())
            }
        }
    }

    /// The program and the arguments that start it.
    pub(super) fn start_words(&self, machine: &Machine) -> Vec<String> {
        let service = self.service(machine, PhpVerb::Start);
        match service {
            Some(words) => [vec!["/usr/bin/env".to_owned()], words].concat(),
            None => vec![self.path().into_string()],
        }
    }

    /// By the service where systemd runs (`sd_booted(3)`) or a script of the system's is there.
    fn service(&self, machine: &Machine, verb: PhpVerb) -> Option<Vec<String>> {
        // Debian's services have the version in their midst.
        let service = format!("php{}-fpm", self.version());
        let service = if self.version().is_empty() { "php-fpm".to_owned() } else { service };
        let word = if verb == PhpVerb::Start { "start" } else { "restart" };
        if machine.real_path("/run/systemd/system").is_dir() {
            return Some(vec!["systemctl".to_owned(), word.to_owned(), service]);
        }
        let has_script = machine.real_path(&format!("/etc/init.d/{service}")).is_file();
        has_script.then(|| vec!["service".to_owned(), service, word.to_owned()])
    }
}

/// The command that installs one.
pub(super) fn install(machine: &Machine) -> Option<String> {
    const INSTALLERS: [(&str, &str); 4] = [
        ("/usr/bin/apt-get", "sudo apt-get install -y php-fpm"),
        ("/usr/bin/dnf", "sudo dnf install -y php-fpm"),
        ("/usr/bin/pacman", "sudo pacman -S --noconfirm php-fpm"),
        ("/sbin/apk", "sudo apk add php-fpm"),
    ];
    let (_, command) = INSTALLERS.iter().find(|(program, _)| machine.real_path(program).is_file())?;
    Some((*command).to_owned())
}
