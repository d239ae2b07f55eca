//! The differences between operating systems, as data.
//!
//! Linux's has been run, Windows's under Wine; macOS's is tested on trees of files.

mod php_fpm;
mod resolver;
mod runtimes;
mod sandbox;
mod trust;
mod typed;

pub use php_fpm::{PhpPool, php_pools};
pub use resolver::ResolverPlace;
pub(crate) use resolver::is_of_responder;
pub use runtimes::{JAVA_SOURCE, NOT_INSTALLED, RUNTIMES, Runtime};
pub use sandbox::{Hidden, Sandbox};
pub use trust::{
    BROWSER_STORES, JAVA_FOLDERS, JAVA_OF_SYSTEM, JAVA_STORES, NEW_BROWSER_STORE, StoreKind, StorePrograms, TrustStore,
    is_own_nickname, nickname,
};
pub use typed::windows_words;

/// An operating system, as far as yandro's work differs on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum System {
    /// Linux, also below Windows (WSL) and in containers.
    Linux,
    /// macOS.
    MacOs,
    /// Windows.
    Windows,
}

/// A part of the resolver that keeps answers, or settings, until it is told of a change.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cache {
    /// systemd-resolved.
    Resolved,
    /// glibc's name service cache daemon.
    Nscd,
    /// macOS's own.
    MacOs,
    /// Windows's own.
    Windows,
    /// The settings of systemd-resolved.
    ResolvedSettings,
    /// The settings of the dnsmasq that `NetworkManager` runs.
    NetworkManager,
}

/// A program by its absolute path, and its arguments.
pub type CommandLine = &'static [&'static str];

impl System {
    /// The system whose tree this is. `exists` tells whether there is something at an
    /// absolute path below the tree's root.
    pub fn of_tree(exists: impl Fn(&str) -> bool) -> Self {
        if exists("/Windows/System32/drivers/etc") {
            Self::Windows
        } else if exists("/System/Library/CoreServices") {
            Self::MacOs
        } else {
            Self::Linux
        }
    }

    /// The servers that root or an administrator named for all users, without the drive.
    pub fn system_servers(self) -> &'static str {
        match self {
            Self::Windows => "/ProgramData/yandro/servers.toml",
            _ => "/etc/yandro/servers.toml",
        }
    }

    /// The hosts file, without the drive.
    pub fn hosts_file(self) -> &'static str {
        match self {
            Self::Linux => "/etc/hosts",
            // `/etc` is a link there.
            Self::MacOs => "/private/etc/hosts",
            Self::Windows => "/Windows/System32/drivers/etc/hosts",
        }
    }

    /// Caches that may keep old answers there.
    pub fn caches(self) -> &'static [Cache] {
        match self {
            Self::Linux => &[Cache::Resolved, Cache::Nscd],
            Self::MacOs => &[Cache::MacOs],
            Self::Windows => &[Cache::Windows],
        }
    }
}

impl Cache {
    /// Title for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Resolved | Self::ResolvedSettings => "systemd-resolved",
            Self::Nscd => "nscd",
            Self::MacOs => "macOS's name cache",
            Self::Windows => "Windows's name cache",
            Self::NetworkManager => "NetworkManager's dnsmasq",
        }
    }

    /// Whether it reads settings again, and doesn't only forget answers.
    pub fn is_of_settings(self) -> bool {
        matches!(self, Self::ResolvedSettings | Self::NetworkManager)
    }

    /// A path that is there while it runs; `None` for one that always does.
    pub fn socket(self) -> Option<&'static str> {
        match self {
            Self::Resolved => Some("/run/systemd/resolve/io.systemd.Resolve"),
            Self::Nscd => Some("/run/nscd/socket"),
            Self::MacOs | Self::Windows | Self::ResolvedSettings | Self::NetworkManager => None,
        }
    }

    /// The commands that make it forget what it read in the hosts file, or read its settings again, by its maker's
    /// manual.
    pub fn flush(self) -> &'static [CommandLine] {
        match self {
            Self::Resolved => &[&["/usr/bin/resolvectl", "flush-caches"]],
            Self::Nscd => &[&["/usr/sbin/nscd", "--invalidate=hosts"]],
            Self::MacOs => &[&["/usr/bin/dscacheutil", "-flushcache"], &["/usr/bin/killall", "-HUP", "mDNSResponder"]],
            Self::Windows => &[&[r"C:\Windows\System32\ipconfig.exe", "/flushdns"]],
            Self::ResolvedSettings => &[&["/usr/bin/systemctl", "reload-or-restart", "systemd-resolved.service"]],
            Self::NetworkManager => &[&["/usr/bin/nmcli", "general", "reload", "dns-full"]],
        }
    }

    /// The commands as a person types them.
    pub fn typed(self) -> String {
        let base = |program: &str| {
            let name = program.rsplit(['/', '\\']).next().unwrap_or(program);
            name.trim_end_matches(".exe").to_owned()
        };
        let line = |line: &CommandLine| {
            [&[base(line[0])], &line[1..].iter().map(|w| (*w).to_owned()).collect::<Vec<_>>()[..]].concat().join(" ")
        };
        let sudo = if self == Self::Windows { "" } else { "sudo " };
        self.flush().iter().map(|own| sudo.to_owned() + &line(own)).collect::<Vec<_>>().join("; ")
    }
}

/// Facts about a hosts file beyond its bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// `/proc/version`, or nothing.
    pub kernel: String,
    /// `/etc/wsl.conf`, or nothing.
    pub wsl_conf: String,
    /// `/proc/self/mountinfo`, or nothing.
    pub mounts: String,
    /// `/etc/nsswitch.conf`, or nothing.
    pub nsswitch: String,
    /// Whether `hosts.txt` is next to the hosts file.
    pub has_text_twin: bool,
    /// Whether the hosts file says that cloud-init makes it (`manage_etc_hosts`).
    pub is_of_cloud_init: bool,
}

/// A program that writes the hosts file again at each start, without the lines that others added.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HostsMaker {
    /// Linux below Windows, at each start.
    Windows,
    /// An engine of containers, at each start of the container.
    Engine,
    /// cloud-init, at each boot.
    CloudInit,
}

impl core::fmt::Display for HostsMaker {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        f.write_str(match self {
            Self::Windows => "WSL writes this file again at each start. To keep your lines in it, set `generateHosts = false` below `[network]` in /etc/wsl.conf",
            Self::Engine => "the container engine writes this file again each time the container starts. Run `yandro settle` in the container when it starts",
            Self::CloudInit => "cloud-init writes this file again at each boot. To keep your lines in it, set `manage_etc_hosts: false` in /etc/cloud/cloud.cfg",
        })
    }
}

impl Surroundings {
    /// Linux below Windows generates its hosts file from Windows's at each start, unless
    /// `[network] generateHosts = false` is said.
    pub fn is_made_from_windows(&self) -> bool {
        let mut in_network = false;
        let is_off = self.wsl_conf.lines().map(str::trim).any(|line| {
            if line.starts_with('[') {
                in_network = line.eq_ignore_ascii_case("[network]");
            }
            let bare: String = line.chars().filter(|c| !c.is_whitespace()).collect();
            in_network && bare.eq_ignore_ascii_case("generateHosts=false")
        });
        self.is_wsl() && !is_off
    }

    /// Whether this is Linux below Windows.
    pub fn is_wsl(&self) -> bool {
        self.kernel.to_ascii_lowercase().contains("microsoft")
    }

    /// The program that writes the hosts file again at each start, if there is one.
    pub fn hosts_maker(&self, hosts: &str) -> Option<HostsMaker> {
        if self.is_made_from_windows() {
            return Some(HostsMaker::Windows);
        }
        let by_cloud = self.is_of_cloud_init.then_some(HostsMaker::CloudInit);
        by_cloud.or_else(|| self.is_mount(hosts).then_some(HostsMaker::Engine))
    }

    /// Whether the hosts file is a mount, as in containers.
    pub fn is_mount(&self, hosts: &str) -> bool {
        // proc(5): the fifth field is the mount point.
        self.mounts.lines().any(|line| line.split(' ').nth(4) == Some(hosts))
    }

    /// The sources of host names in `nsswitch.conf(5)`, in their order, without the
    /// actions in brackets; empty if none are named.
    pub fn name_sources(&self) -> Vec<&str> {
        let lines = self.nsswitch.lines().map(|line| line.split('#').next().unwrap_or(line));
        let Some(value) = lines.map(str::trim).find_map(|line| line.strip_prefix("hosts:")) else { return Vec::new() };
        value.split_whitespace().filter(|word| !word.starts_with('[') && !word.ends_with(']')).collect()
    }
}

/// The source of host names that is asked before the hosts file and may answer otherwise; `files`
/// itself where the hosts file is not asked at all. systemd-resolved reads it, too.
pub(crate) fn asked_before_files<S: AsRef<str>>(sources: &[S]) -> Option<&str> {
    let mut names = sources.iter().map(AsRef::as_ref);
    let Some(place) = names.clone().position(|source| source == "files") else {
        return (names.len() > 0 && !names.any(|source| source == "resolve")).then_some("files");
    };
    names.take(place).find(|source| !matches!(*source, "resolve" | "myhostname" | "mymachines"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn surroundings_are_read() {
        let wsl = |conf: &str| Surroundings {
            kernel: "Linux version 6.6.87-microsoft-standard-WSL2".into(),
            wsl_conf: conf.into(),
            ..Surroundings::default()
        };
        assert!(wsl("").is_made_from_windows());
        assert!(wsl("[boot]\ngenerateHosts=false\n").is_made_from_windows());
        assert!(!wsl("[network]\ngenerateHosts = FALSE\n").is_made_from_windows());
        let container = Surroundings {
            mounts: "36 35 98:0 /var/x/hosts /etc/hosts rw - ext4 /dev/vda rw\n".into(),
            nsswitch: "# hosts: dns\nhosts:\tfiles mdns4_minimal [NOTFOUND=return] dns # x\n".into(),
            ..Surroundings::default()
        };
        assert!(container.is_mount("/etc/hosts") && !container.is_mount("/etc"));
        assert_eq!(container.name_sources(), ["files", "mdns4_minimal", "dns"]);
        assert!(!container.is_made_from_windows());
        assert_eq!(container.hosts_maker("/etc/hosts"), Some(HostsMaker::Engine));
        assert_eq!(container.hosts_maker("/etc/other"), None);
        assert_eq!(wsl("").hosts_maker("/etc/hosts"), Some(HostsMaker::Windows));
        let cloud = Surroundings { is_of_cloud_init: true, ..container };
        assert_eq!(cloud.hosts_maker("/etc/hosts"), Some(HostsMaker::CloudInit));
    }

    #[test]
    fn commands_are_typed_without_their_folders() {
        assert_eq!(Cache::MacOs.typed(), "sudo dscacheutil -flushcache; sudo killall -HUP mDNSResponder");
        assert_eq!(Cache::Windows.typed(), "ipconfig /flushdns");
    }
}
