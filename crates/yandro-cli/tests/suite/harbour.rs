//! A machine with a real server that has a site of its user's own, and ordinary users who may use sudo.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::path::Path;

use super::kit::{Ran, YANDRO, eventually, tree};
use super::namespace::Namespace;

/// The server that is tried.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Server {
    Apache,
    Nginx,
}

impl Server {
    pub fn word(self) -> &'static str {
        if self == Self::Apache { "apache" } else { "nginx" }
    }

    fn pid_file(self) -> &'static str {
        if self == Self::Apache { "/run/apache2/apache2.pid" } else { "/run/nginx.pid" }
    }
}

/// A machine with a server that runs, the site `quay.test` of its user's own on it, and a user who
/// may use sudo.
pub struct Harbour {
    pub machine: Namespace,
    pub server: Server,
    /// The user who runs yandro; `None` for root.
    pub user: Option<&'static str>,
    pid: String,
}

const QUAY: &str = "<h1>The quay</h1>\n";

impl Harbour {
    pub fn new(server: Server, users: &[&'static str]) -> Option<Self> {
        let machine = Namespace::new(&["nginx", "sudo", "setpriv", "useradd", "strace"])?;
        for user in users {
            let home = machine.path(user);
            fs::create_dir(&home).unwrap();
            machine.run("useradd", &["-M", "-d", home.to_str().unwrap(), "-s", "/bin/sh", user]).succeeds();
            let id = machine.run("id", &["-u", user]).succeeds().stdout.trim().parse().unwrap();
            chown(&home, Some(id), Some(id)).unwrap();
            let rule = format!("{user} ALL=(root) NOPASSWD: ALL\n");
            fs::write(machine.path(&format!("etc/sudoers.d/{user}")), rule).unwrap();
            // Everybody may write there, as in a shared project's folder.
            fs::set_permissions(machine.path("saltmarsh"), fs::Permissions::from_mode(0o777)).unwrap();
        }
        fs::create_dir(machine.path("quay")).unwrap();
        fs::write(machine.path("quay/index.html"), QUAY).unwrap();
        let root = machine.path("quay").display().to_string();
        if server == Server::Apache {
            let text = format!(
                "ServerName localhost\n<VirtualHost *:80>\n\tServerName quay.test\n\tDocumentRoot {root}\n\t<Directory {root}>\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n"
            );
            fs::write(machine.path("apache2/sites-enabled/quay.conf"), text).unwrap();
            machine.run("apache2ctl", &["-k", "start"]).succeeds();
        } else {
            let text = format!("server {{\n\tlisten 80;\n\tserver_name quay.test;\n\troot {root};\n}}\n");
            fs::write(machine.inside("/etc/nginx/sites-enabled/quay"), text).unwrap();
            machine.run("nginx", &[]).succeeds();
        }
        let mut harbour = Self { machine, server, user: users.first().copied(), pid: String::new() };
        eventually("the server answers", || harbour.answers());
        harbour.pid = harbour.pid_now();
        Some(harbour)
    }

    pub fn pid_now(&self) -> String {
        self.machine.run("cat", &[self.server.pid_file()]).stdout.trim().to_owned()
    }

    /// Whether the user's own site answers.
    pub fn answers(&self) -> bool {
        let quay = ["--silent", "--max-time", "10", "--resolve", "quay.test:80:127.0.0.1", "http://quay.test/"];
        self.machine.run("curl", &quay).stdout == QUAY
    }

    /// The server never ended: its own site answers, by the process that was there at first.
    #[track_caller]
    pub fn is_alive(&self, when: &str) {
        assert!(self.answers(), "{} doesn't answer: {when}\n{}", self.server.word(), self.log());
        assert_eq!(self.pid_now(), self.pid, "{} was started again: {when}\n{}", self.server.word(), self.log());
    }

    fn log(&self) -> String {
        let script = "tail -n 20 /var/log/apache2/error.log /var/log/nginx/error.log 2>&1";
        self.machine.run("sh", &["-c", script]).stdout
    }

    pub fn line(user: Option<&str>, words: &[&str]) -> Vec<String> {
        let mut line = Vec::new();
        if let Some(user) = user {
            line.extend(["setpriv", "--reuid", user, "--regid", user, "--init-groups"].map(str::to_owned));
        }
        line.push(YANDRO.to_owned());
        line.extend(words.iter().map(|word| (*word).to_owned()));
        line
    }

    pub fn home(&self, user: Option<&str>) -> String {
        self.machine.path(user.unwrap_or("home")).display().to_string()
    }

    pub fn yandro_as(&self, user: Option<&str>, words: &[&str]) -> Ran {
        let line = Self::line(user, words);
        let home = format!("HOME={}", self.home(user));
        let line: Vec<&str> = [home.as_str()].into_iter().chain(line.iter().map(String::as_str)).collect();
        self.machine.run("env", &line)
    }

    pub fn yandro(&self, words: &[&str]) -> Ran {
        self.yandro_as(self.user, words)
    }

    /// Everything that yandro may touch, but for its history and the bytes of keys and certificates.
    pub fn state(&self) -> String {
        let configuration = if self.server == Server::Apache { "apache2" } else { "etc/nginx" };
        let home = self.user.unwrap_or("home");
        let all = [
            tree(&self.machine.path(configuration)),
            tree(&self.machine.path(home)),
            self.machine.hosts(),
            tree(&self.machine.path("saltmarsh")),
        ];
        let lines = all.iter().flat_map(|tree| tree.lines()).filter(|line| !line.contains("/originals"));
        lines.map(|line| line.split_once(" \"-----BEGIN").map_or(line, |(path, _)| path)).collect::<Vec<_>>().join("\n")
    }

    /// Records that are neither done nor gone.
    pub fn unfinished(&self) -> Vec<String> {
        let history = format!("{}/.local/share/yandro/history", self.home(self.user));
        let names = fs::read_dir(history).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
        names.filter(|name| Path::new(name).extension().is_none_or(|state| state != "done")).collect()
    }
}
