//! Killed, or refused by the system, at every single system call that changes
//! something: afterwards the machine is as before or as after, never between.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Stdio};

use super::kit::{Sysroot, YANDRO, has};

/// The system calls that change files.
const CALLS: [&str; 15] = [
    "openat",
    "write",
    "fsync",
    "fchmod",
    "fchown",
    "rename",
    "renameat2",
    "unlink",
    "unlinkat",
    "rmdir",
    "mkdir",
    "mkdirat",
    "symlink",
    "symlinkat",
    "ftruncate",
];

const MAP: &[&str] = &["map", "depot.saltmarsh.test", "./depot", "--document-root", "public"];

/// A machine on which `saltmarsh.test` is mapped, and the command that is to be broken.
struct Scene {
    sysroot: Sysroot,
    /// A bind-mounted hosts file is written in place.
    bind: bool,
    command: Vec<String>,
    before: String,
    after: String,
}

/// Whether a line of strace is a file that is made or opened for writing.
fn is_for_writing(line: &str) -> bool {
    line.contains("O_CREAT") || line.contains("O_WRONLY")
}

impl Scene {
    fn new(prepare: &[&[&str]], command: &[&str], bind: bool) -> Option<Self> {
        if !has(&["strace", "unshare", "mount"], true) {
            return None;
        }
        let sysroot = Sysroot::with_apache();
        sysroot.write("hosts.real", "127.0.0.1\tlocalhost\n");
        let mut scene = Self {
            sysroot,
            bind,
            command: command.iter().map(|&word| word.to_owned()).collect(),
            before: String::new(),
            after: String::new(),
        };
        scene.run(&[], &["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]);
        for words in prepare {
            let (command, file) = (words[0], words.get(1).copied().unwrap_or_default());
            match command {
                "rm" => std::fs::remove_file(scene.sysroot.path(file)).unwrap(),
                "add" => {
                    let list = scene.sysroot.path("home/ada/.config/yandro/sites.toml");
                    std::fs::write(&list, std::fs::read_to_string(&list).unwrap() + file).unwrap();
                }
                _ => assert_eq!(scene.run(&[], words), Some(0), "{words:?}"),
            }
        }
        scene.before = scene.state();
        let kept = scene.keep();
        assert_eq!(scene.run(&[], command), Some(0));
        scene.after = scene.state();
        assert_ne!(scene.before, scene.after);
        scene.bring_back(kept.path());
        Some(scene)
    }

    /// Runs yandro below strace with these options.
    fn run(&self, strace: &[&str], words: &[&str]) -> Option<i32> {
        let root = self.sysroot.root().to_str().unwrap();
        let mut line = Vec::new();
        if !strace.is_empty() {
            line.extend(["strace", "-f", "-o", "/dev/null"]);
            line.extend(strace);
        }
        line.extend([YANDRO, "--sysroot", root]);
        line.extend(words);
        let set_up = if self.bind { "mount --bind hosts.real etc/hosts; exec \"$@\"" } else { "exec \"$@\"" };
        let mut command = Command::new("unshare");
        command.args(["--mount", "sh", "-c", set_up, "sh"]).args(line).current_dir(root);
        command.env_clear().env("HOME", "/home/ada").env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().code()
    }

    /// The whole tree, but for the bytes of keys and certificates, which are random.
    fn state(&self) -> String {
        let lines =
            self.sysroot.tree().lines().filter(|line| !line.contains("/originals")).map(shortened).collect::<Vec<_>>();
        lines.join("\n")
    }

    fn keep(&self) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        copy(self.sysroot.root(), folder.path());
        folder
    }

    fn bring_back(&self, kept: &Path) {
        for entry in std::fs::read_dir(self.sysroot.root()).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { std::fs::remove_dir_all(path).unwrap() } else { std::fs::remove_file(path).unwrap() }
        }
        copy(kept, self.sysroot.root());
    }

    /// The calls that change something, counted from 1. An `openat` does so when it
    /// makes or opens a file for writing.
    fn changing(&self) -> BTreeMap<&'static str, Vec<usize>> {
        let kept = self.keep();
        let log = tempfile::NamedTempFile::new().unwrap();
        let words: Vec<&str> = self.command.iter().map(String::as_str).collect();
        let calls = format!("trace={}", CALLS.map(|call| format!("?{call}")).join(","));
        self.run(&["-o", log.path().to_str().unwrap(), "-e", &calls], &words);
        let text = std::fs::read_to_string(log.path()).unwrap();
        self.bring_back(kept.path());
        // The counter of an injection is each thread's own: one thread does all the changing.
        let of = |call: &str| {
            let lines = text.lines().filter(|line| line.contains(&format!(" {call}("))).enumerate();
            lines.filter(|(_, line)| call != "openat" || is_for_writing(line)).map(|(place, _)| place + 1).collect()
        };
        CALLS.iter().map(|&call| (call, of(call))).collect()
    }

    /// Breaks the command by `fault` at each call in turn; gives how often it was broken.
    fn break_everywhere(&self, faults: &[(&str, &str)]) -> usize {
        let kept = self.keep();
        let mut broken = 0;
        for (call, places) in self.changing() {
            for (_, fault) in faults.iter().filter(|(on, _)| *on == call || *on == "any") {
                broken += places.iter().filter(|when| self.break_at(kept.path(), (call, fault, **when))).count();
            }
        }
        broken
    }

    /// Breaks the command by a fault at the call of this number, of each thread; gives whether it was broken. The machine
    /// has to be as before or as after then, and is brought back to what was `kept`.
    fn break_at(&self, kept: &Path, (call, fault, when): (&str, &str, usize)) -> bool {
        let words: Vec<&str> = self.command.iter().map(String::as_str).collect();
        let log = tempfile::NamedTempFile::new().unwrap();
        let (trace, inject) = (format!("trace={call}"), format!("inject={call}:{fault}:when={when}"));
        let log = log.path().to_str().unwrap();
        let status = self.run(&["-o", log, "-e", &trace, "-e", &inject], &words);
        // Processes come and go, and reading them takes calls: one can have another number in the next run.
        let text = std::fs::read_to_string(log).unwrap();
        let injected = text.lines().find(|line| line.ends_with("(INJECTED)"));
        if call == "openat" && injected.is_some_and(|line| !is_for_writing(line)) {
            self.bring_back(kept);
            return false;
        }
        let place = format!("{:?} {fault} at {call} number {when}: {status:?}", self.command);
        // 5: all is done, and only the output is lost.
        let is_done = matches!(status, Some(0 | 5));
        if !is_done && fault.starts_with("error") && status != Some(4) {
            assert_eq!(self.state(), self.before, "put back at once: {place}");
        }
        assert_eq!(self.run(&[], &["sites"]), Some(0), "{place}");
        let state = self.state();
        assert!(
            state == self.before || state == self.after,
            "{place}\n{}",
            first_difference(&state, &self.before, &self.after)
        );
        if is_done {
            assert_eq!(state, self.after, "{place}");
        }
        self.bring_back(kept);
        status != Some(0)
    }
}

fn shortened(line: &str) -> String {
    // A restored machine is a copy, and its folders have other inode numbers.
    if line.contains("yandro/markers.json") {
        return line.replace(|letter: char| letter.is_ascii_digit(), "");
    }
    match line.split_once(" \"-----BEGIN") {
        Some((path, _)) => format!("{path} PEM"),
        None => line.to_owned(),
    }
}

fn first_difference(state: &str, before: &str, after: &str) -> String {
    let lines = |text: &str| text.lines().map(str::to_owned).collect::<std::collections::BTreeSet<_>>();
    let (state, before, after) = (lines(state), lines(before), lines(after));
    let differs = |other| state.symmetric_difference(other).cloned().collect::<Vec<_>>().join("\n");
    format!("against before:\n{}\nagainst after:\n{}", differs(&before), differs(&after))
}

fn copy(from: &Path, to: &Path) {
    let mut source = from.as_os_str().to_owned();
    source.push("/.");
    assert!(Command::new("cp").arg("-a").arg(source).arg(to).status().unwrap().success());
}

/// Damage that `settle` repairs.
const SETTLED: &[&[&str]] = &[
    &["rm", "etc/apache2/sites-enabled/yandro-saltmarsh.test.conf"],
    &["rm", "home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"],
];

const KILLED: &[(&str, &str)] = &[("any", "signal=SIGKILL")];
const FAULTS: &[(&str, &str)] = &[
    ("openat", "error=EACCES"),
    ("openat", "error=EROFS"),
    ("write", "error=ENOSPC"),
    ("fsync", "error=EIO"),
    ("fchmod", "error=EIO"),
    ("fchown", "error=EIO"),
    ("rename", "error=EBUSY"),
    ("rename", "error=EIO"),
    ("renameat2", "error=EROFS"),
    ("mkdir", "error=ENOSPC"),
    ("mkdirat", "error=ENOSPC"),
    ("symlink", "error=EROFS"),
    ("symlinkat", "error=EROFS"),
    ("unlink", "error=EIO"),
    ("unlinkat", "error=EIO"),
    ("ftruncate", "error=EIO"),
];

#[track_caller]
fn broken(prepare: &[&[&str]], command: &[&str], bind: bool, faults: &[(&str, &str)], at_least: usize) {
    let Some(scene) = Scene::new(prepare, command, bind) else { return };
    let broken = scene.break_everywhere(faults);
    eprintln!("{command:?}: broken {broken} times, lost nothing");
    assert!(broken >= at_least, "only {broken} points were found");
}

#[test]
fn a_map_killed_anywhere() {
    broken(&[], MAP, false, KILLED, 45);
}

#[test]
fn a_map_on_a_bind_mounted_hosts_file_killed_anywhere() {
    broken(&[], MAP, true, KILLED, 45);
}

#[test]
fn an_unmap_killed_anywhere() {
    broken(&[], &["unmap", "saltmarsh.test"], false, KILLED, 30);
}

#[test]
fn an_undo_killed_anywhere() {
    broken(&[MAP], &["undo"], false, KILLED, 30);
}

#[test]
fn a_settle_killed_anywhere() {
    broken(SETTLED, &["settle"], false, KILLED, 30);
}

/// Certificates of many sites are written and taken away by several threads.
#[test]
fn a_settle_of_many_new_sites_and_its_undo_killed_or_refused_anywhere() {
    let sites: String = (0..20)
        .map(|boat| format!("\n[[site]]\nname = \"boat{boat}.test\"\nfolder = \"/srv\"\nserver = \"built-in\"\n"))
        .collect();
    let add: &[&str] = &["add", &sites];
    let refused =
        [("rename", "error=EIO"), ("fsync", "error=EIO"), ("write", "error=ENOSPC"), ("mkdir", "error=ENOSPC")];
    let killed = [("rename", "signal=SIGKILL"), ("fsync", "signal=SIGKILL"), ("fchmod", "signal=SIGKILL")];
    let unlinked = [("unlink", "error=EIO"), ("unlink", "signal=SIGKILL")];
    let broken_in = |before: &[&[&str]], words: &[&str], faults: &[(&'static str, &'static str)]| {
        let Some(scene) = Scene::new(before, words, false) else { return usize::MAX };
        let kept = scene.keep();
        let points = faults.iter().flat_map(|(call, fault)| (1..=4).map(move |when| (*call, *fault, when)));
        points.filter(|point| scene.break_at(kept.path(), *point)).count()
    };
    let settled = broken_in(&[add], &["settle"], &[&refused[..], &killed].concat());
    let undone = broken_in(&[add, &["settle"]], &["undo"], &[&refused[..3], &killed[..2], &unlinked].concat());
    assert!(settled >= 16 && undone >= 12, "only {settled} and {undone} points were found");
}

#[test]
fn a_map_refused_by_the_system_anywhere() {
    broken(&[], MAP, false, FAULTS, 45);
}

#[test]
fn a_map_in_place_refused_by_the_system_anywhere() {
    broken(&[], MAP, true, FAULTS, 45);
}

#[test]
fn an_unmap_refused_by_the_system_anywhere() {
    broken(&[], &["unmap", "saltmarsh.test"], false, FAULTS, 25);
}

#[test]
fn an_undo_refused_by_the_system_anywhere() {
    broken(&[MAP], &["undo"], false, FAULTS, 25);
}

#[test]
fn a_settle_refused_by_the_system_anywhere() {
    broken(SETTLED, &["settle"], false, FAULTS, 25);
}

#[test]
fn a_disk_that_is_full_at_any_point_loses_nothing() {
    let Some(scene) = Scene::new(&[], MAP, false) else { return };
    // A small file system with the machine in it and `free` kilobytes left; afterwards a
    // copy of what is there, and of what is there once the next command has had room again.
    let script = r#"
        mount -t tmpfs -o size=1m,mode=755 tmpfs disk
        cp -a root/. disk/
        head -c $((1024 * 1024)) /dev/zero >disk/ballast 2>/dev/null
        free=$1; shift
        truncate -s "-${free}k" disk/ballast
        yandro=$1; shift
        "$yandro" --sysroot disk "$@"; status=$?
        rm disk/ballast
        cp -a disk/. at-once/
        "$yandro" --sysroot disk sites
        cp -a disk/. later/
        exit $status
    "#;
    let mut full = 0;
    for free in (0..=64).step_by(4) {
        let folder = tempfile::tempdir().unwrap();
        for below in ["disk", "root", "at-once", "later"] {
            std::fs::create_dir(folder.path().join(below)).unwrap();
        }
        copy(scene.sysroot.root(), &folder.path().join("root"));
        let mut command = Command::new("unshare");
        command
            .args(["--mount", "sh", "-c", script, "sh", &free.to_string(), YANDRO])
            .args(MAP.iter().map(|word| word.replace("./", "disk/")));
        command
            .env_clear()
            .env("HOME", "/home/ada")
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .current_dir(folder.path());
        let output = command.output().unwrap();
        let state = |below: &str| {
            let tree = super::kit::tree(&folder.path().join(below));
            let lines =
                tree.lines().filter(|line| !line.contains("/originals")).map(shortened).collect::<Vec<_>>().join("\n");
            lines.replace(folder.path().join("disk").to_str().unwrap(), scene.sysroot.root().to_str().unwrap())
        };
        let status = output.status.code();
        let place = format!("{free} kB free: {status:?} {}", String::from_utf8_lossy(&output.stderr));
        if status == Some(0) {
            assert_eq!(state("at-once"), scene.after, "{place}");
        } else {
            full += 1;
            assert_eq!(status, Some(3), "{place}");
            assert!(place.contains("no space left on device"), "{place}");
            assert_eq!(state("at-once"), scene.before, "{place}");
        }
        assert_eq!(state("later"), state("at-once"), "{place}");
    }
    assert!(full > 2, "the disk was full {full} times");
}
