//! Causes made on purpose with the real servers: each has to be reported by its own code, and no other
//! finding with it.

mod apache;
mod common;
mod nginx;
mod php;
mod rules;

use super::kit::{Background, YANDRO, eventually};
use super::namespace::Namespace;

/// How a fault is made on a machine with `saltmarsh.test` mapped and well.
type Cause = (&'static str, fn(&Namespace) -> Held);
/// Processes that keep the fault alive.
type Held = Vec<Background>;

/// Functions for the scripts of faults.
const WORDS: &str = include_str!("words.sh");

pub(super) fn shell(machine: &Namespace, script: &str) -> Held {
    machine.run("sh", &["-ec", &format!("YANDRO='{YANDRO}'\n{WORDS}\n{script}")]).succeeds();
    Vec::new()
}

/// A program of Python's that goes on, once it says that it is ready.
pub(super) fn background(machine: &Namespace, script: &str) -> Background {
    let ready = machine.path("home/.ready");
    _ = std::fs::remove_file(&ready);
    let script = format!("{script}\n");
    let script = script.replace("READY", &format!("open({:?}, 'w').close()", ready.to_str().unwrap()));
    let started = Background::start(machine.command("python3").args(["-c", &script]));
    eventually("the program is ready", || ready.exists());
    started
}

/// A program that listens on ports of the machine and is not a web server.
pub(super) fn listener(machine: &Namespace, ports: &[u16]) -> Background {
    let ports: Vec<String> = ports.iter().map(ToString::to_string).collect();
    let script = format!(
        "import socket, select, time
held = []
for port in [{}]:
    s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    for _ in range(400):
        try: s.bind(('0.0.0.0', port)); break
        except OSError: time.sleep(0.05)
    s.listen(8); held.append(s)
READY
while True:
    for s in select.select(held, [], [])[0]:
        c, _ = s.accept(); c.close()",
        ports.join(", ")
    );
    background(machine, &script)
}

/// An upstream that answers with `words`, unless `rule` does otherwise.
fn upstream(machine: &Namespace, port: u16, words: &str, rule: &str) -> Background {
    upstream_at(machine, "127.0.0.1", port, words, rule)
}

/// The same at an address of either family.
fn upstream_at(machine: &Namespace, address: &str, port: u16, words: &str, rule: &str) -> Background {
    let rule = if rule.is_empty() { "pass" } else { rule };
    let script = format!(
        "import http.server, socket
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        {rule}
        self.send_response(200); self.send_header('Content-Length', '{}'); self.end_headers(); self.wfile.write(b'{words}')
    def log_message(self, *words): pass
http.server.ThreadingHTTPServer.allow_reuse_address = True
http.server.ThreadingHTTPServer.address_family = socket.AF_INET6 if ':' in '{address}' else socket.AF_INET
server = http.server.ThreadingHTTPServer(('{address}', {port}), H)
READY
server.serve_forever()",
        words.len()
    );
    background(machine, &script)
}

/// The findings: each code and its remedy.
fn found(machine: &Namespace) -> Vec<(String, String)> {
    read(&machine.yandro(&["check", "--json"]))
}

/// The findings, once they are `code` alone. A server needs time to reload: until its old workers are gone, either
/// an old or a new one answers.
fn found_at_last(code: &str, find: impl Fn() -> Vec<(String, String)>) -> Vec<(String, String)> {
    let mut last = Vec::new();
    for _ in 0..16 {
        last = find();
        if codes(&last) == [code] {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(250));
    }
    last
}

/// Whether an ordinary user gets the same verdict, and under sudo as well.
fn is_found_by_a_user(machine: &Namespace, code: &str) -> Result<(), String> {
    let found = found_at_last(code, || read(&under_sudo(machine, &["check", "--json"])));
    if codes(&found) != [code] {
        let told = under_sudo(machine, &["check"]);
        return Err(format!("{code}: as {:?} under sudo\n{told}", codes(&found)));
    }
    // nginx opens its main error log first, which only root can, and tells an ordinary user nothing of the others.
    let list = std::fs::read_to_string(machine.path("home/.config/yandro/sites.toml")).unwrap_or_default();
    let is_nginx = list.contains("server = \"nginx\"");
    let code = if code == "log-folder-missing" && is_nginx { "server-down" } else { code };
    let found = found_at_last(code, || read(&by_a_user(machine, &["check", "--json"])));
    if codes(&found) == [code] {
        return Ok(());
    }
    Err(format!("{code}: as {:?} for an ordinary user\n{}", codes(&found), by_a_user(machine, &["check"])))
}

fn by_a_user(machine: &Namespace, words: &[&str]) -> super::kit::Ran {
    let home = machine.path("home").display().to_string();
    machine.run("chown", &["-R", "nobody", &home]);
    let ids = ["--reuid=65534", "--regid=65534", "--clear-groups", YANDRO];
    machine.run("setpriv", &[&ids[..], words].concat())
}

/// The same user under sudo.
fn under_sudo(machine: &Namespace, words: &[&str]) -> super::kit::Ran {
    let home = machine.path("home").display().to_string();
    machine.run("chown", &["-R", "nobody", &home]);
    machine.run("sed", &["-i", &format!("s#^nobody:.*#nobody:x:65534:65534::{home}:/bin/sh#"), "/etc/passwd"]);
    std::fs::write(machine.path("etc/sudoers.d/nobody"), "nobody ALL=(ALL) NOPASSWD: ALL\n").unwrap();
    let ids = ["--reuid=65534", "--regid=65534", "--clear-groups", "sudo", YANDRO];
    machine.run("setpriv", &[&ids[..], words].concat())
}

fn read(ran: &super::kit::Ran) -> Vec<(String, String)> {
    let told: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap_or_else(|_| panic!("no JSON: {ran}"));
    let sites = told["sites"].as_array().unwrap().iter();
    let findings = sites.flat_map(|site| site["findings"].as_array().unwrap());
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    findings.map(|finding| (text(&finding["code"]), text(&finding["remedy"]))).collect()
}

fn codes(found: &[(String, String)]) -> Vec<&str> {
    found.iter().map(|(code, _)| code.as_str()).collect()
}

/// Causes without a fixing command: the remedy shows the user where to look.
const BY_A_PERSON: [&str; 20] = [
    "confined",
    "folder-missing",
    "http-fails",
    "https-fails",
    "https-status",
    "page-leaves",
    "page-mixed",
    "php-busy",
    "port-closed",
    "proof-not-written",
    "redirect-leaves",
    "redirect-loop",
    "resolver-differs",
    "resolver-fails",
    "tls-fails",
    "tls-plain",
    "tls-version",
    "unreachable",
    "upstream-down",
    "upstream-fails",
];

fn is_for_a_person(code: &str, remedy: &str) -> bool {
    let is_found_elsewhere = code.starts_with("upstream-") && remedy.starts_with("yandro map");
    BY_A_PERSON.contains(&code) && !is_found_elsewhere
}

/// Pastes the remedy of a finding into a shell, as often as there is another one: the finding has to go. The
/// person at the editor takes the line out.
fn paste(machine: &Namespace, code: &str, mut remedy: String) -> Result<(), String> {
    let editor = "#!/bin/sh\nexec sed -i \"${1#+}d\" \"$2\"\n";
    let path = machine.path("home/editor");
    std::fs::write(&path, editor).unwrap();
    std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let mut said = String::new();
    for _ in 0..3 {
        // The output has a word instead of the machine's folder.
        let remedy_here = remedy.replace("$ROOT", machine.root().to_str().unwrap());
        let script = format!(
            "mkdir -p /run/php; export EDITOR=$HOME/editor PATH=$PATH:$HOME/bin; mkdir -p $HOME/bin; ln -sf {YANDRO} $HOME/bin/yandro; {remedy_here}"
        );
        said += &format!("$ {remedy}\n{}", machine.run("sh", &["-c", &script]));
        let mut now = Vec::new();
        for _ in 0..12 {
            now = found(machine);
            if codes(&now).iter().all(|own| *own != code) {
                return Ok(());
            }
            std::thread::sleep(std::time::Duration::from_millis(250));
        }
        let next = now.into_iter().find(|(own, _)| own == code).unwrap().1;
        if next == remedy {
            break;
        }
        remedy = next;
    }
    Err(format!("{code}: what was pasted doesn't fix it:\n{said}"))
}

/// Makes each cause on a separate machine; several machines at once.
fn try_all(causes: &[Cause], prepare: &(dyn Fn(&Namespace) + Sync)) {
    let next = std::sync::atomic::AtomicUsize::new(0);
    let wrong = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                    let Some((code, make)) = causes.get(at) else { break };
                    let Some(machine) = Namespace::new(&["python3", "openssl", "certutil", "ip"]) else { break };
                    prepare(&machine);
                    let made = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| make(&machine)));
                    let Ok(held) = made else {
                        wrong.lock().unwrap().push(format!("{code}: could not be made"));
                        continue;
                    };
                    let mut last = found_at_last(code, || found(&machine));
                    if codes(&last) == [*code]
                        && let Err(told) = is_found_by_a_user(&machine, code)
                    {
                        wrong.lock().unwrap().push(told);
                    }
                    if codes(&last) != [*code] {
                        let told = machine.yandro(&["check"]);
                        wrong.lock().unwrap().push(format!("{code}: told as {:?}\n{told}", codes(&last)));
                    } else if !is_for_a_person(code, &last[0].1)
                        && let Err(said) = paste(&machine, code, last.remove(0).1)
                    {
                        wrong.lock().unwrap().push(said);
                    }
                    drop(held);
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {} told wrong:\n{}", wrong.len(), causes.len(), wrong.join("\n---\n"));
}

fn try_with(server: &str, causes: &[Cause]) {
    let Some(probe) = Namespace::new(&["nginx", "python3", "openssl", "certutil", "ip"]) else { return };
    drop(probe);
    try_all(causes, &|machine| {
        machine.run("chown", &["-R", "nobody", machine.path("saltmarsh").to_str().unwrap()]).succeeds();
        machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", server]).succeeds();
        assert_eq!(codes(&found(machine)), [""; 0], "it is well before");
    });
}

#[test]
fn every_cause_with_apache_httpd_is_found_and_fixed() {
    try_with("apache", &[common::COMMON, apache::APACHE, rules::RULES_APACHE].concat());
}

#[test]
fn a_wrong_clock_is_reported_instead_of_its_symptoms() {
    let Some(machine) = Namespace::new(&["faketime"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    // The certificate seems to be of the future, and so does the authority that issued it.
    let ran = machine.run("faketime", &["-f", "-400d", YANDRO, "check", "--json"]);
    assert!(ran.status == 1 && ran.stdout.matches("\"code\"").count() == 1, "{ran}");
    assert!(ran.stdout.contains("\"code\":\"clock-wrong\"") && ran.stdout.contains("timedatectl"), "{ran}");
}

#[test]
fn an_ordinary_user_is_told_what_only_root_can_test() {
    let Some(machine) = Namespace::new(&["nginx", "setpriv"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    let note = "note: not looked at: whether nginx accepts its changed files, since only root can test them: sudo ";
    assert!(!by_a_user(&machine, &["check"]).stderr.contains(note), "no file has changed");
    // Later than the youngest process, to the second.
    shell(&machine, "touch -d '+2 seconds' /etc/nginx/nginx.conf");
    let ran = by_a_user(&machine, &["check"]);
    assert!(ran.stderr.contains(note), "{ran}");
    assert!(!machine.yandro(&["check"]).stderr.contains(note), "root has tested it");
    machine.run("nginx", &["-s", "stop"]).succeeds();
}

#[test]
fn every_cause_of_php_is_found_and_fixed() {
    try_with("apache", &[php::PHP, php::PHP_APACHE].concat());
    try_with("nginx", php::PHP);
}

#[test]
fn every_cause_with_nginx_is_found_and_fixed() {
    try_with("nginx", &[common::COMMON, nginx::NGINX, rules::RULES_NGINX].concat());
}
