//! A separate machine for each test: a sysroot, a home folder, an empty environment.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use regex_lite::Regex;
use tempfile::TempDir;

pub const YANDRO: &str = env!("CARGO_BIN_EXE_yandro");

pub const HOSTS: &str = "127.0.0.1\tlocalhost\n::1 localhost ip6-localhost\n";

/// A sysroot with a hosts file and a project folder.
pub struct Sysroot {
    folder: TempDir,
}

impl Sysroot {
    pub fn new() -> Self {
        let sysroot = Self { folder: tempfile::tempdir().unwrap() };
        sysroot.write("etc/hosts", HOSTS);
        sysroot.write("saltmarsh/index.html", "<h1>Saltmarsh Ferries</h1>\n");
        sysroot.write("depot/public/index.html", "<h1>Depot handbook</h1>\n");
        sysroot
    }

    /// With Apache httpd in Debian's layout, only as files.
    pub fn with_apache() -> Self {
        let sysroot = Self::new();
        sysroot.write(
            "etc/apache2/apache2.conf",
            "IncludeOptional mods-enabled/*.load\nIncludeOptional mods-enabled/*.conf\nInclude ports.conf\nIncludeOptional sites-enabled/*.conf\n",
        );
        sysroot.write("etc/apache2/ports.conf", "Listen 80\n\n<IfModule ssl_module>\n\tListen 443\n</IfModule>\n");
        for module in
            ["rewrite", "socache_shmcb", "setenvif", "mime", "dir", "authz_core", "authz_host", "proxy", "headers"]
        {
            sysroot.write(
                &format!("etc/apache2/mods-available/{module}.load"),
                &format!("LoadModule {module}_module x.so\n"),
            );
        }
        sysroot.write(
            "etc/apache2/mods-available/ssl.load",
            "# Depends: setenvif mime socache_shmcb\nLoadModule ssl_module x.so\n",
        );
        sysroot.write("etc/apache2/mods-available/ssl.conf", "\n");
        sysroot.write(
            "etc/apache2/mods-available/proxy_http.load",
            "# Depends: proxy\nLoadModule proxy_http_module x.so\n",
        );
        for folder in ["mods-enabled", "sites-available", "sites-enabled"] {
            fs::create_dir_all(sysroot.path(&format!("etc/apache2/{folder}"))).unwrap();
        }
        for module in ["setenvif", "mime", "dir", "authz_core", "authz_host"] {
            let link = sysroot.path(&format!("etc/apache2/mods-enabled/{module}.load"));
            std::os::unix::fs::symlink(format!("../mods-available/{module}.load"), link).unwrap();
        }
        sysroot
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.root().join(below)
    }

    pub fn write(&self, below: &str, content: &str) {
        let path = self.path(below);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }

    pub fn read(&self, below: &str) -> String {
        fs::read_to_string(self.path(below)).unwrap()
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(YANDRO);
        command.env_clear().env("HOME", "/home/ada").current_dir(self.root());
        command.arg("--sysroot").arg(self.root()).args(arguments);
        command
    }

    pub fn yandro(&self, arguments: &[&str]) -> Ran {
        Ran::of(self.command(arguments).output().unwrap(), self.root())
    }

    /// Every path below, with kind, mode and content or target; history and lock left out.
    pub fn tree(&self) -> String {
        tree(self.root())
    }
}

/// See [`Sysroot::tree`].
pub fn tree(root: &Path) -> String {
    let mut lines = Vec::new();
    walk(root, root, &mut lines);
    lines.sort();
    lines.join("\n")
}

fn walk(root: &Path, folder: &Path, lines: &mut Vec<String>) {
    use std::os::unix::fs::PermissionsExt as _;
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let shown = path.strip_prefix(root).unwrap().display().to_string();
        let meta = path.symlink_metadata().unwrap();
        let mode = meta.permissions().mode() & 0o7777;
        if shown.ends_with("yandro/history") || shown.ends_with("yandro/lock") {
            continue;
        }
        if meta.is_symlink() {
            lines.push(format!("{shown} -> {}", path.read_link().unwrap().display()));
        } else if meta.is_dir() {
            lines.push(format!("{shown}/ {mode:o}"));
            walk(root, &path, lines);
        } else {
            lines.push(format!("{shown} {mode:o} {:?}", String::from_utf8_lossy(&fs::read(&path).unwrap())));
        }
    }
}

/// A file's text with whoever runs the tests as `$USER`, where it names the site list that it belongs to.
pub fn without_user(text: &str) -> String {
    let line = |line: &str| match line.split_once(", in /") {
        Some((start, rest)) if line.starts_with("# ") => {
            let start = start.rsplit_once(' ').map_or(start, |(start, _)| start);
            format!("{start} $USER, in /{rest}")
        }
        _ => line.to_owned(),
    };
    text.split_inclusive('\n').map(line).collect()
}

/// A command's output and exit status.
pub struct Ran {
    pub status: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Ran {
    /// With `root` replaced by `$ROOT` and dates by `$DATE`, so that it is the same everywhere.
    pub fn of(output: Output, root: &Path) -> Self {
        let text =
            |bytes: Vec<u8>| undated(&String::from_utf8(bytes).unwrap().replace(root.to_str().unwrap(), "$ROOT"));
        Self { status: output.status.code().unwrap_or(-1), stdout: text(output.stdout), stderr: text(output.stderr) }
    }

    #[track_caller]
    pub fn succeeds(self) -> Self {
        assert_eq!(self.status, 0, "{self}");
        self
    }
}

impl std::fmt::Display for Ran {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}{}[status {}]", self.stdout, self.stderr, self.status)
    }
}

fn undated(text: &str) -> String {
    let mut words = Vec::new();
    for word in text.split_inclusive([' ', '\n', ',']) {
        let bare = word.trim_end_matches([' ', '\n', ',']);
        let is_date = bare.len() == 10 && bare.starts_with("20") && bare.bytes().filter(|b| *b == b'-').count() == 2;
        words.push(if is_date { word.replace(bare, "$DATE") } else { word.to_owned() });
    }
    words.concat()
}

/// Whether these programs (and root, where asked) are there. A test that lacks one says
/// so and is skipped, or fails where everything has to be there, as in CI.
pub fn has(programs: &[&str], root: bool) -> bool {
    let on_path = |program: &&&str| {
        let folders = ["/usr/bin", "/usr/sbin", "/bin", "/sbin"];
        !folders.iter().any(|folder| Path::new(folder).join(program).exists())
    };
    let mut missing: Vec<&str> = programs.iter().filter(on_path).copied().collect();
    if root && !fs::read_to_string("/proc/self/status").unwrap().contains("\nUid:\t0\t0") {
        missing.push("root");
    }
    if missing.is_empty() {
        return true;
    }
    let missing = missing.join(", ");
    assert!(std::env::var_os("YANDRO_REQUIRE_REAL").is_none(), "this test needs {missing}");
    eprintln!("skipped: this test needs {missing}");
    false
}

/// A process that ends with the test.
pub struct Background(pub Child);

impl Background {
    pub fn start(command: &mut Command) -> Self {
        Self(command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
    }
}

impl Drop for Background {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// Tries until it holds, for at most ten seconds.
#[track_caller]
pub fn eventually(what: &str, mut holds: impl FnMut() -> bool) {
    for _ in 0..500 {
        if holds() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    panic!("never came true: {what}");
}

/// Numbers that look random and are the same in every run.
pub struct Numbers(pub u64);

impl Numbers {
    pub fn below(&mut self, limit: u64) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from((self.0 >> 33) % limit).unwrap()
    }
}

/// A whole output as it is on every machine and in every run: without users, numbers of processes, times and serial
/// numbers, and with columns two blanks apart, whatever is in them.
pub fn steady(ran: &Ran) -> String {
    let mut shown = ran.to_string().replace(YANDRO, "yandro");
    for (pattern, word) in VARYING {
        shown = Regex::new(pattern).unwrap().replace_all(&shown, *word).into_owned();
    }
    shown
}

/// Texts that differ from run to run, and their replacements.
const VARYING: &[(&str, &str)] = &[
    (r"(?m)^sudo: unable to resolve host .*\n", ""),
    (r"(?m)^AH0055[78]: .*\n", ""),
    (r"(?m)^note: waiting for .*\n", ""),
    (r"for \S+@\S+, \$DATE [0-9a-f]{4}", "for USER, DATE"),
    (r"authority of \S+@\S+", "authority of USER"),
    (r"process \d+", "process PID"),
    (r"target=\d+", "target=PID"),
    (r"\[\w{3} \w{3} \d\d [\d:.]+ \d{4}\]", "[NOW]"),
    (r"\[pid [^\]]*\]", "[PID]"),
    (r"\[client [^\]]*\]", "[CLIENT]"),
    (r"\d+#\d+", "PID"),
    (r"20\d\d/\d\d/\d\d \d\d:\d\d:\d\d", "NOW"),
    (r"20\d\d-\d\d-\d\dT\d\d:\d\d:\d\dZ", "NOW"),
    (r"\b20\d\d-\d\d-\d\d\b", "$$DATE"),
    (r"\b\d+(\.\d+)? m?s\b", "TIME"),
    (r"\b3\d{3} days", "N days"),
    (r"\.log:\d+:", ".log:N:"),
    (r"\btest:\d{5}/", "test:PORT/"),
    (r"\b[0-9a-f]{16,}\b", "HEX"),
    (r"(?m)(\S)  +", "$1  "),
    (r"(?m) +$", ""),
    (r"process PID(, \d+)+", "process PID"),
    (r"\bkill \d+", "kill PID"),
    (r"\b(python3|apache2)  \d+", "$1  PID"),
    (r"\$DATE \d\d:\d\d:\d\d", "$$DATE TIME"),
    (r"\b([0-9A-F]{2}:){31}[0-9A-F]{2}\b", "FINGERPRINT"),
];
