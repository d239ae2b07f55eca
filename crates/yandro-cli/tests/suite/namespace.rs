//! A private machine: its own mounts, network and processes, the real programs.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;

use tempfile::TempDir;

use super::kit::{Ran, YANDRO, has};

/// The hosts file that the machine begins with.
pub const HOSTS: &str = "127.0.0.1 localhost\n";

/// Gone with all its processes when dropped.
pub struct Namespace {
    folder: TempDir,
    /// The copies of the real folders, where they are in memory.
    _copies: Option<TempDir>,
    keeper: Child,
    inside: u32,
}

/// Part of a script: another network at the end of a cable, 10.77.0.2 there and 10.77.0.1 here. Its process is `$holder`, whose
/// number is printed.
pub const CABLE: &str = r#"
set -e
unshare --net sleep infinity >/dev/null 2>&1 &
holder=$!
while [ "$(readlink /proc/$holder/ns/net)" = "$(readlink /proc/self/ns/net)" ]; do sleep 0.01; done
ip link add cable type veth peer name far
ip link set far netns $holder
ip address add 10.77.0.1/24 dev cable
ip link set cable up
nsenter --target=$holder --net sh -c 'ip address add 10.77.0.2/24 dev far; ip link set far up; ip link set lo up'
echo $holder
"#;

const SET_UP: &str = r#"
set -e
mount --bind "$1/etc" /etc
mount --bind "$1/apache2" /etc/apache2
mount --bind "$1/hosts" /etc/hosts
mkdir "$1/lib"
mount -t tmpfs tmpfs "$1/lib"
mkdir "$1/lib/upper" "$1/lib/work"
mount -t overlay overlay -o "lowerdir=/var/lib,upperdir=$1/lib/upper,workdir=$1/lib/work" /var/lib
mount -t tmpfs tmpfs /var/log
mkdir /var/log/apache2 /var/log/nginx
mount --bind "$1/log" /var/log/apache2
if [ -d /var/lib/nginx ]; then mount -t tmpfs tmpfs /var/lib/nginx; fi
mkdir -p "$1/local/share/ca-certificates" "$1/opt"
mount --bind "$1/local" /usr/local
mount --bind "$1/opt" /opt
mount -t tmpfs -o mode=755 tmpfs /run
mkdir -p /run/apache2 /run/lock
chmod 1777 /run/lock
# What PostgreSQL and podman keep there goes with the machine; the copies, if they are there, stay to be seen.
if [ -n "$2" ]; then mkdir "$1/copies" && mount --bind "$2" "$1/copies"; fi
mount -t tmpfs -o mode=1777 tmpfs /dev/shm
if [ -n "$2" ]; then mkdir "$2" && mount --move "$1/copies" "$2"; fi
ip link set lo up
echo ready
# A machine's first process takes in what others leave behind, and so has to be a shell.
sleep infinity &
wait
"#;

/// A folder in memory, where there is room: on a disk the thousands of small files of all machines take a third of the
/// tests' time.
fn in_memory() -> Option<TempDir> {
    static HAS_ROOM: OnceLock<bool> = OnceLock::new();
    let has_room = || {
        let told = Command::new("df").args(["--output=fstype,avail", "--block-size=1M", "/dev/shm"]).output();
        let told = told.map(|told| String::from_utf8_lossy(&told.stdout).into_owned()).unwrap_or_default();
        let mut words = told.lines().nth(1).unwrap_or_default().split_whitespace();
        words.next() == Some("tmpfs")
            && words.next().is_some_and(|free| free.parse::<u64>().is_ok_and(|free| free > 256))
    };
    let folder = HAS_ROOM.get_or_init(has_room).then(|| tempfile::tempdir_in("/dev/shm").ok())??;
    fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    Some(folder)
}

impl Namespace {
    /// `None`, with a word on it, where it can't be had.
    pub fn new(programs: &[&str]) -> Option<Self> {
        let needed = [&["unshare", "nsenter", "ip", "apache2", "curl"], programs].concat();
        if !has(&needed, true) {
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        // The server's user has to pass through.
        fs::set_permissions(root, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        // The whole of /etc, so that not even a temporary file is made in the real one; /var/lib has what programs
        // of the system keep, as its packages' tools do when a trust store changes.
        let copies = in_memory();
        for (from, to) in [("/etc", "etc"), ("/etc/apache2", "apache2")] {
            let copy = copies.as_ref().map_or(root, TempDir::path).join(to);
            assert!(Command::new("cp").arg("-a").arg(from).arg(&copy).status().unwrap().success());
            if copies.is_some() {
                std::os::unix::fs::symlink(copy, root.join(to)).unwrap();
            }
        }
        fs::write(root.join("hosts"), HOSTS).unwrap();
        for below in ["log", "home", "saltmarsh"] {
            fs::create_dir(root.join(below)).unwrap();
        }
        fs::write(root.join("saltmarsh/index.html"), "<h1>Saltmarsh Ferries</h1>\n").unwrap();
        let mut keeper = Command::new("unshare")
            .args(["--mount", "--net", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-c", SET_UP, "sh"])
            .arg(root)
            .arg(copies.as_ref().map_or(Path::new(""), TempDir::path))
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut ready = String::new();
        BufReader::new(keeper.stdout.take().unwrap()).read_line(&mut ready).unwrap();
        assert_eq!(ready, "ready\n", "the namespace could not be set up");
        let children = fs::read_to_string(format!("/proc/{0}/task/{0}/children", keeper.id())).unwrap();
        let inside = children.trim().parse().unwrap();
        Some(Self { folder, _copies: copies, keeper, inside })
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.root().join(below)
    }

    pub fn command(&self, program: &str) -> Command {
        let mut command = Command::new("nsenter");
        command.arg(format!("--target={}", self.inside)).args(["--mount", "--net", "--pid", "--"]);
        command.arg(program).env_clear().env("HOME", self.path("home")).env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
        command.current_dir(self.root());
        command
    }

    pub fn run(&self, program: &str, arguments: &[&str]) -> Ran {
        // nsenter keeps no current folder across a mount namespace; `cd` does.
        let mut command = self.command("sh");
        command.args(["-c", r#"cd "$1"; shift; exec "$@""#, "sh"]).arg(self.root()).arg(program).args(arguments);
        Ran::of(command.output().unwrap(), self.root())
    }

    pub fn yandro(&self, arguments: &[&str]) -> Ran {
        self.run(YANDRO, arguments)
    }

    pub fn root_certificate(&self) -> PathBuf {
        self.path("home/.local/share/yandro/authority/root.pem")
    }

    /// curl, with the authority as its only anchor.
    pub fn curl(&self, arguments: &[&str]) -> Ran {
        let root = self.root_certificate();
        let trust = [
            "--silent",
            "--show-error",
            "--max-time",
            "10",
            "--capath",
            "/nonexistent",
            "--cacert",
            root.to_str().unwrap(),
        ];
        self.run("curl", &[&trust, arguments].concat())
    }

    /// Puts another Apache httpd in the place of Debian's: the same program under the name that
    /// others give it, with the files of another layout.
    pub fn other_apache(&self, program: &str, files: &[(&str, String)]) {
        for entry in fs::read_dir(self.path("apache2")).unwrap() {
            let path = entry.unwrap().path();
            _ = fs::remove_file(&path).or_else(|_| fs::remove_dir_all(path));
        }
        for (path, text) in files {
            let path = self.inside(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let folder = Path::new(program).parent().unwrap();
        if program == "/usr/sbin/apache2" {
        } else if folder.starts_with("/usr/sbin") {
            fs::create_dir(self.path("sbin")).unwrap();
            fs::copy("/usr/sbin/apache2", self.path("sbin/httpd")).unwrap();
            let sbin = self.path("sbin");
            self.run("mount", &["--bind", sbin.to_str().unwrap(), "/usr/sbin"]).succeeds();
        } else {
            fs::create_dir_all(self.inside(folder.to_str().unwrap())).unwrap();
            fs::copy("/usr/sbin/apache2", self.inside(program)).unwrap();
        }
    }

    /// Place of a path of the machine's own `/etc`, `/usr/local` or `/opt`.
    pub fn inside(&self, path: &str) -> PathBuf {
        let below = path.strip_prefix("/usr/").or(path.strip_prefix("/etc/apache2/").map(|_| &path[5..]));
        let below = below.unwrap_or(&path[1..]);
        self.path(below)
    }

    /// The hosts file as the machine has it now.
    pub fn hosts(&self) -> String {
        fs::read_to_string(self.path("hosts")).unwrap()
    }
}

impl Drop for Namespace {
    fn drop(&mut self) {
        self.keeper.kill().ok();
        self.keeper.wait().ok();
    }
}
