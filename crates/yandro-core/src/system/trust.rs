//! Trust stores, by the ways in which their makers keep them.

use super::{CommandLine, System};

/// The system's own trust store, by the way in which its makers keep it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TrustStore {
    /// Debian and its relatives, and Alpine, which has the same program at the same place.
    Debian,
    /// Red Hat and its relatives.
    RedHat,
    /// Arch and its relatives.
    Arch,
    /// SUSE and its relatives.
    Suse,
}

/// Trust stores of browsers, below the user's home: the browser, and the
/// folder of its NSS database, with a `*` for each profile. Of two for one browser without
/// profiles it reads the first that is there.
pub const BROWSER_STORES: &[(&str, &str)] = &[
    ("Chromium", ".pki/nssdb"),
    ("Chromium", ".local/share/pki/nssdb"),
    ("Chromium (snap)", "snap/chromium/current/.pki/nssdb"),
    ("Chromium (flatpak)", ".var/app/org.chromium.Chromium/.pki/nssdb"),
    ("Firefox", ".mozilla/firefox/*"),
    ("Firefox", ".config/mozilla/firefox/*"),
    ("Firefox (snap)", "snap/firefox/common/.mozilla/firefox/*"),
    ("Firefox (flatpak)", ".var/app/org.mozilla.firefox/.mozilla/firefox/*"),
    ("Firefox (flatpak)", ".var/app/org.mozilla.firefox/config/mozilla/firefox/*"),
    ("Firefox", "Library/Application Support/Firefox/Profiles/*"),
];

/// The store that is made for a browser which has none yet: the browser, its folder, and the
/// programs by which the browser is known to be there.
pub const NEW_BROWSER_STORE: (&str, &str, &[&str]) = (
    "Chromium",
    ".pki/nssdb",
    &["/usr/bin/chromium", "/usr/bin/chromium-browser", "/usr/bin/google-chrome", "/usr/bin/google-chrome-stable"],
);

impl TrustStore {
    /// Every one.
    pub const ALL: [Self; 4] = [Self::Debian, Self::RedHat, Self::Arch, Self::Suse];

    /// The folder that takes further root certificates.
    pub fn folder(self) -> &'static str {
        match self {
            Self::Debian => "/usr/local/share/ca-certificates",
            Self::RedHat => "/etc/pki/ca-trust/source/anchors",
            Self::Arch => "/etc/ca-certificates/trust-source/anchors",
            Self::Suse => "/etc/pki/trust/anchors",
        }
    }

    /// How a certificate's file has to end there.
    pub fn extension(self) -> &'static str {
        if self == Self::Debian { "crt" } else { "pem" }
    }

    /// The list that comes of it, as one file of certificates in PEM.
    pub fn list(self) -> &'static str {
        match self {
            Self::Debian => "/etc/ssl/certs/ca-certificates.crt",
            Self::RedHat => "/etc/pki/tls/certs/ca-bundle.crt",
            Self::Arch => "/etc/ca-certificates/extracted/tls-ca-bundle.pem",
            Self::Suse => "/var/lib/ca-certificates/ca-bundle.pem",
        }
    }

    /// The command that takes the folder's change up.
    pub fn refresh(self) -> CommandLine {
        match self {
            // The same name on both, and another program.
            Self::Debian | Self::Suse => &["/usr/sbin/update-ca-certificates"],
            Self::RedHat => &["/usr/bin/update-ca-trust", "extract"],
            Self::Arch => &["/usr/bin/trust", "extract-compat"],
        }
    }

    /// The store that a file is a root certificate of, if yandro could have put it there.
    pub fn of_file(path: &camino::Utf8Path) -> Option<Self> {
        let is_own = |store: &Self| {
            path.file_stem().is_some_and(is_own_nickname)
                && path.extension() == Some(store.extension())
                && path.parent().is_some_and(|own| own == store.folder())
        };
        Self::ALL.into_iter().find(is_own)
    }
}

/// Kind of a trust store that is not a folder of certificates.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StoreKind {
    /// A database of NSS, as browsers have it.
    #[default]
    Nss,
    /// A key store of Java.
    Java,
    /// A keychain of macOS.
    Keychain,
    /// A root store of Windows.
    WindowsRoot,
}

/// Folders of Java runtimes.
pub const JAVA_FOLDERS: [&str; 3] = ["/usr/lib/jvm", "/opt/java", "/Library/Java/JavaVirtualMachines"];
/// Paths of a runtime's trust store, below its folder.
pub const JAVA_STORES: [&str; 3] =
    ["lib/security/cacerts", "jre/lib/security/cacerts", "Contents/Home/lib/security/cacerts"];
/// The store of Java that Debian makes from the system's own whenever that changes.
pub const JAVA_OF_SYSTEM: &str = "/etc/ssl/certs/java/cacerts";

/// A system's trust store of a user: its programs and their arguments. `{store}`, `{file}` (a
/// certificate in PEM) and `{sha1}` (the certificate's) are replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StorePrograms {
    /// Kind of the store.
    pub kind: StoreKind,
    /// Owner, for people to read.
    pub title: &'static str,
    /// The store: a file below the user's home, or a name.
    pub store: &'static str,
    /// Prints all certificates in PEM.
    pub list: CommandLine,
    /// Puts a root in, trusted for servers.
    pub add: CommandLine,
    /// Takes it out.
    pub remove: CommandLine,
}

impl StorePrograms {
    /// The programs of a system, by its maker's manual; `None` if the store is another.
    pub fn of(system: System) -> Option<Self> {
        match system {
            System::Linux | System::Windows => None,
            System::MacOs => Some(Self {
                kind: StoreKind::Keychain,
                title: "your keychain",
                store: "Library/Keychains/login.keychain-db",
                list: &["/usr/bin/security", "find-certificate", "-a", "-p", "{store}"],
                add: &[
                    "/usr/bin/security",
                    "add-trusted-cert",
                    "-r",
                    "trustRoot",
                    "-p",
                    "ssl",
                    "-k",
                    "{store}",
                    "{file}",
                ],
                remove: &["/usr/bin/security", "delete-certificate", "-t", "-Z", "{sha1}", "{store}"],
            }),
        }
    }
}

/// The name of a root certificate of yandro in a trust store, by its SHA-256 in hexadecimal
/// digits.
pub fn nickname(sha256: &str) -> String {
    format!("yandro-{}", &sha256[..16])
}

/// Whether a certificate of that name is one of yandro's roots.
pub fn is_own_nickname(name: &str) -> bool {
    let digits = name.strip_prefix("yandro-");
    digits.is_some_and(|digits| digits.len() == 16 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()))
}
