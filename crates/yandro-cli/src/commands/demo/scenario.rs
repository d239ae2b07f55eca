//! The made-up ferry line: its folders, its commands, its mishap.

use std::net::SocketAddr;
use std::{fs, io};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_machine::{Environment, Machine};

/// Path below the home folder, and content.
const FILES: [(&str, &str); 4] = [
    ("saltmarsh/index.html", include_str!("../../../demo/saltmarsh/index.html")),
    ("saltmarsh/ferries.css", include_str!("../../../demo/saltmarsh/ferries.css")),
    ("depot/public/index.html", include_str!("../../../demo/depot/public/index.html")),
    ("depot/crew.txt", include_str!("../../../demo/depot/crew.txt")),
];

const HOSTS: &str = "127.0.0.1\tlocalhost\n::1\tlocalhost ip6-localhost\n";

/// A command of the demo.
pub(super) struct ScenarioLine {
    /// As a person would type it.
    pub(super) shown: String,
    /// As it is run.
    pub(super) words: Vec<String>,
}

/// Writes the machine of the ferry line into an empty sysroot.
pub(super) fn write(sysroot: &Utf8Path, environment: &Environment, ports: (u16, u16)) -> io::Result<()> {
    fs::create_dir_all(sysroot.join("etc"))?;
    fs::write(sysroot.join("etc/hosts"), HOSTS)?;
    for (path, content) in FILES {
        let path = home(sysroot).join(path);
        fs::create_dir_all(path.parent().unwrap_or(sysroot))?;
        fs::write(path, content)?;
    }
    let machine = Machine::new(environment).map_err(io::Error::other)?;
    fs::create_dir_all(&machine.places.config)?;
    fs::write(machine.places.settings(), format!("[built-in]\nhttp-port = {}\nhttps-port = {}\n", ports.0, ports.1))
}

fn home(sysroot: &Utf8Path) -> Utf8PathBuf {
    sysroot.join("ferries")
}

/// The commands that map the three sites.
pub(super) fn commands(sysroot: &Utf8Path, upstream: SocketAddr) -> Vec<ScenarioLine> {
    let home = home(sysroot);
    let line = |words: &[&str]| {
        let shown = format!("yandro {}", words.join(" ")).replace(&format!("{home}/"), "./");
        let server = ["--server".to_owned(), "built-in".to_owned()];
        let words = std::iter::once("yandro").chain(words.iter().copied()).map(str::to_owned);
        ScenarioLine { shown, words: words.chain(server).collect() }
    };
    vec![
        line(&["map", "saltmarsh.test", home.join("saltmarsh").as_str(), "--alias", "www.saltmarsh.test"]),
        line(&["map", "depot.saltmarsh.test", home.join("depot").as_str(), "--document-root", "public"]),
        line(&["map", "booking.saltmarsh.test", &format!("http://{upstream}")]),
    ]
}

/// Takes the depot's line out of the hosts file, as a careless edit does.
pub(super) fn lose_a_line(hosts: &Utf8Path) -> io::Result<()> {
    let text = fs::read_to_string(hosts)?;
    let rest: String = text.split_inclusive('\n').filter(|line| !line.contains("depot.saltmarsh.test")).collect();
    fs::write(hosts, rest)
}
