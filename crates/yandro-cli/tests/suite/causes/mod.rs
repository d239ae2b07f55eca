//! Causes made on purpose with the real servers: each has to be told by its own code, and no other
//! finding with it.

mod apache;
mod common;
mod nginx;

use super::kit::{Background, YANDRO, eventually};
use super::namespace::Namespace;

/// How a fault is made on a machine with `saltmarsh.test` mapped and well.
type Cause = (&'static str, fn(&Namespace) -> Held);
/// What has to go on for the fault to last.
type Held = Vec<Background>;

/// What scripts may call: yandro; `closed PORT`, which waits until nothing listens there; `gone`, which does
/// until no server is there any more; `rename OLD NEW`, which gives a site another name in every file; `reload`.
const WORDS: &str = r#"
yandro() { "$YANDRO" "$@"; }
closed() {
  for _ in $(seq 400); do
    curl --silent --output /dev/null "http://127.0.0.1:$1/" || [ $? != 7 ] || return 0
    sleep 0.05
  done
  return 1
}
reload() { yandro servers reload "$(server)" -q; }
server() { if ls /etc/nginx/sites-enabled/*yandro-* >/dev/null 2>&1; then echo nginx; else echo apache; fi; }
rename() {
  case $(server) in nginx) at=/etc/nginx ;; *) at=/etc/apache2 ;; esac
  sed "s/$1/$2/g" /etc/hosts > "$HOME/.hosts"; cat "$HOME/.hosts" > /etc/hosts; rm "$HOME/.hosts"
  sed -i "s/$1/$2/g" "$HOME/.config/yandro/sites.toml"
  sed "s#$1#$2#g" "$at/sites-available/yandro-$1.conf" > "$at/sites-available/yandro-$2.conf"
  for link in "$at"/sites-enabled/*"$1".conf; do
    ln -s "../sites-available/yandro-$2.conf" "${link%"$1".conf}$2.conf"; rm "$link"
  done
  rm "$at/sites-available/yandro-$1.conf"
}
gone() {
  for _ in $(seq 400); do
    [ -e /run/apache2/apache2.pid ] || [ -e /run/nginx.pid ] || break
    sleep 0.05
  done
  closed 80 && closed 443
}
"#;

pub(super) fn shell(machine: &Namespace, script: &str) -> Held {
    machine.run("sh", &["-ec", &format!("YANDRO='{YANDRO}'\n{WORDS}\n{script}")]).succeeds();
    Vec::new()
}

/// A program of Python's that goes on, once it says that it is ready.
fn background(machine: &Namespace, script: &str) -> Background {
    let ready = machine.path("home/.ready");
    _ = std::fs::remove_file(&ready);
    let script = format!("{script}\n");
    let script = script.replace("READY", &format!("open({:?}, 'w').close()", ready.to_str().unwrap()));
    let started = Background::start(machine.command("python3").args(["-c", &script]));
    eventually("the program is ready", || ready.exists());
    started
}

/// A program that listens on ports of the machine and is no web server of its own.
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
    let rule = if rule.is_empty() { "pass" } else { rule };
    let script = format!(
        "import http.server
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        {rule}
        self.send_response(200); self.send_header('Content-Length', '{}'); self.end_headers(); self.wfile.write(b'{words}')
    def log_message(self, *words): pass
http.server.ThreadingHTTPServer.allow_reuse_address = True
server = http.server.ThreadingHTTPServer(('127.0.0.1', {port}), H)
READY
server.serve_forever()",
        words.len()
    );
    background(machine, &script)
}

/// The codes of what is found, and how it was told.
fn found(machine: &Namespace) -> (Vec<String>, String) {
    let ran = machine.yandro(&["check", "--json"]);
    let codes = ran.stdout.split("\"code\":\"").skip(1).map(|rest| rest.split('"').next().unwrap().to_owned());
    (codes.collect(), ran.to_string())
}

/// Makes each cause on a machine of its own; several machines at once.
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
                    // A server that was told to reload takes its time.
                    let mut last = Vec::new();
                    for _ in 0..16 {
                        last = found(&machine).0;
                        if last == [*code] {
                            break;
                        }
                        std::thread::sleep(std::time::Duration::from_millis(250));
                    }
                    if last != [*code] {
                        let told = machine.yandro(&["check"]);
                        wrong.lock().unwrap().push(format!("{code}: told as {last:?}\n{told}"));
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
        machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", server]).succeeds();
        assert_eq!(found(machine).0, [""; 0], "it is well before");
    });
}

#[test]
fn every_cause_with_apache_httpd_is_told_by_its_own_code() {
    try_with("apache", &[common::COMMON, apache::APACHE].concat());
}

#[test]
fn a_clock_that_is_wrong_is_told_and_not_what_it_seems_to_be() {
    let Some(machine) = Namespace::new(&["faketime"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    // The certificate seems to be of the future, and so does the authority that issued it.
    let ran = machine.run("faketime", &["-f", "-400d", YANDRO, "check", "--json"]);
    assert!(ran.status == 1 && ran.stdout.matches("\"code\"").count() == 1, "{ran}");
    assert!(ran.stdout.contains("\"code\":\"clock-wrong\"") && ran.stdout.contains("timedatectl"), "{ran}");
}

#[test]
fn every_cause_with_nginx_is_told_by_its_own_code() {
    try_with("nginx", &[common::COMMON, nginx::NGINX].concat());
}
