//! A site that is lent to another device of the network, which finds it by a real avahi.

use std::fs;
use std::process::Stdio;

use super::background::{machine, without_sudo};
use super::harbour::Harbour;
use super::kit::{Background, Ran, eventually, has};
use super::namespace::CABLE;

/// The device at the end of the cable gets avahi. $1 is a folder.
const DEVICE: &str = r#"
nsenter --target=$holder --net ip route add default dev far
mkdir -p /run/avahi-daemon "$1"
printf '[server]\nenable-dbus=no\nuse-ipv6=no\nhost-name=phone\nallow-interfaces=far\n' > "$1/avahi.conf"
nsenter --target=$holder --net avahi-daemon --no-drop-root --no-chroot --no-rlimits -f "$1/avahi.conf" >/dev/null 2>&1 &
"#;

/// Asks avahi for the address of a name, by its socket.
const RESOLVE: &str = r"
import socket, sys
asked = socket.socket(socket.AF_UNIX)
asked.settimeout(10)
asked.connect('/run/avahi-daemon/socket')
asked.sendall(f'RESOLVE-HOSTNAME-IPV4 {sys.argv[1]}\n'.encode())
print(asked.makefile().readline().strip())
";

/// The ports of an address that take connections.
const SCAN: &str = r"
import socket, sys
for port in range(1, 65536):
    with socket.socket() as tried:
        tried.settimeout(1)
        if tried.connect_ex((sys.argv[1], port)) == 0:
            print(port)
";

/// What an application on this machine was asked, one line for each request; its answer leads to its own name.
const APPLICATION: &str = r"
import http.server, sys
class Answer(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        seen = [self.headers.get(name, '') for name in ('Host', 'X-Forwarded-Host', 'X-Forwarded-Proto', 'X-Forwarded-For', 'Origin')]
        leads = self.path == '/a'
        body = ' '.join(seen).encode() if leads else b'booking'
        self.send_response(302 if leads else 200)
        if leads: self.send_header('Location', 'https://app.localhost:8443/next')
        self.send_header('Set-Cookie', 'tide=high; Domain=app.localhost; Path=/')
        self.send_header('Content-Length', str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *rest): pass
http.server.HTTPServer(('127.0.0.1', 3000), Answer).serve_forever()
";

struct Quay {
    harbour: Harbour,
    device: String,
}

impl Quay {
    fn new() -> Option<Self> {
        if !has(&["avahi-daemon"], true) {
            return None;
        }
        let harbour = machine("[built-in]\nhttp-port = 8080\nhttps-port = 8443\n")?;
        without_sudo(&harbour);
        let folder = harbour.machine.path("device").display().to_string();
        let device =
            harbour.machine.run("bash", &["-c", &format!("{CABLE}{DEVICE}"), "bash", &folder]).succeeds().stdout;
        let device = device.trim().to_owned();
        // The machine's own web server listens for the network, too.
        harbour.machine.run("nginx", &["-s", "stop"]).succeeds();
        let quay = Self { harbour, device };
        eventually("avahi answers", || quay.resolves("phone.local").starts_with('+'));
        let shop = format!("{}/shop", quay.harbour.home(Some("ada")));
        quay.harbour.yandro(&["map", "shop.localhost", &shop, "--server", "built-in"]).succeeds();
        Some(quay)
    }

    fn on_device(&self, program: &str, arguments: &[&str]) -> Ran {
        let target = format!("--target={}", self.device);
        self.harbour.machine.run("nsenter", &[&[target.as_str(), "--net", program], arguments].concat())
    }

    fn resolves(&self, name: &str) -> String {
        self.on_device("python3", &["-c", RESOLVE, name]).stdout
    }

    /// What the device gets; it takes the address from avahi's answer.
    fn get(&self, more: &[&str], url: &str) -> String {
        let root = self.harbour.machine.path("device/root.pem").display().to_string();
        let words = ["-s", "--max-time", "20", "--cacert", &root, "--resolve", "shop.local:8443:10.77.0.1"];
        let names = ["--resolve", "app.local:8443:10.77.0.1", "--resolve", "app.local:9443:10.77.0.1"];
        self.on_device("curl", &[&words[..], &names, more, &[url]].concat()).stdout
    }

    /// Lends until it is dropped.
    fn lend(&self, words: &str) -> Background {
        let (log, home) = (self.log(), self.harbour.home(Some("ada")));
        let mut command = self.harbour.machine.command("su");
        command.args(["ada", "-c", &format!("HOME={home} exec {} lend {words} > {log} 2>&1", super::kit::YANDRO)]);
        Background::start(command.stdin(Stdio::null()))
    }

    fn log(&self) -> String {
        self.harbour.machine.path("ada/lend.log").display().to_string()
    }

    fn said(&self) -> String {
        fs::read_to_string(self.log()).unwrap_or_default()
    }

    fn end(&self) {
        self.harbour.machine.run("pkill", &["-INT", "-u", "ada", "-f", " lend "]);
        eventually("lending ended", || {
            self.harbour.machine.run("pgrep", &["-u", "ada", "-f", " lend "]).stdout.is_empty()
        });
    }
}

#[test]
fn another_device_finds_a_lent_site_and_nothing_else() {
    let Some(quay) = Quay::new() else { return };
    let _lent = quay.lend("shop.localhost --minutes 5");
    eventually("it is lent", || quay.said().contains("Who comes:"));
    let page = "http://10.77.0.1:8443/";
    assert!(quay.said().contains("https://shop.local:8443/") && quay.said().contains(page), "{}", quay.said());
    assert!(quay.resolves("shop.local").contains("shop.local 10.77.0.1"), "{}", quay.resolves("shop.local"));
    // The page in plain HTTP, and the root certificate, before the site is trusted.
    assert!(quay.get(&[], page).contains("<a class=\"file\" href=\"https://shop.local:8443/\">"));
    let pem = quay.get(&[], &format!("{page}root.pem"));
    fs::write(quay.harbour.machine.path("device/root.pem"), pem).unwrap();
    assert_eq!(quay.get(&["-A", "A phone"], "https://shop.local:8443/"), "<h1>Ferries</h1>\n");
    // Neither the site's own name nor an address, nor another host over the same connection.
    for (more, url) in [
        (&["--resolve", "shop.localhost:8443:10.77.0.1", "-k"][..], "https://shop.localhost:8443/"),
        (&["-k"], "https://10.77.0.1:8443/"),
        (&["-H", "Host: shop.localhost"], "https://shop.local:8443/"),
        (&[], "http://10.77.0.1:8443/index.html"),
    ] {
        assert!(!quay.get(more, url).contains("Ferries"), "{url}");
    }
    // What an attacker in the network reaches: one port.
    assert_eq!(quay.on_device("python3", &["-c", SCAN, "10.77.0.1"]).succeeds().stdout, "8443\n");
    let said = quay.said();
    for line in ["10.77.0.2 opened the page", "10.77.0.2 fetched root.pem", "10.77.0.2 opened the site  A phone"] {
        assert_eq!(said.matches(line).count(), 1, "{line}: {said}");
    }
    // Another one under the same name is refused, with what to do.
    let again = quay.harbour.yandro(&["lend", "shop.localhost", "--port", "9443", "--listen", "10.77.0.9"]);
    assert!(again.status == 2 && again.stderr.contains("10.77.0.9 is not an address of this machine"), "{again}");
    let taken = quay.harbour.yandro(&["lend", "shop.localhost", "--port", "9443", "--called", "phone"]);
    assert!(taken.status == 3 && taken.stderr.contains("--called WORD"), "{taken}");
    quay.end();
    assert!(quay.said().contains("Who comes:"));
    eventually("the name is gone", || !quay.resolves("shop.local").contains("10.77.0.1"));
    assert_eq!(quay.on_device("python3", &["-c", SCAN, "10.77.0.1"]).stdout, "");
}

#[test]
fn an_application_learns_its_lent_name_and_leads_to_it() {
    let Some(quay) = Quay::new() else { return };
    let mut application = quay.harbour.machine.command("python3");
    let _application = Background::start(application.args(["-c", APPLICATION]));
    eventually("it listens", || quay.harbour.local("http://127.0.0.1:3000/") == "booking");
    let ran = quay.harbour.yandro(&["map", "app.localhost", ":3000", "--server", "built-in"]);
    assert!(ran.stdout.contains("app.localhost -> http://127.0.0.1:3000"), "{ran}");
    let root = quay.harbour.machine.path("ada/.local/share/yandro/authority/root.pem");
    fs::copy(root, quay.harbour.machine.path("device/root.pem")).unwrap();
    for (words, port, host, own) in [
        ("", 8443, "app.localhost:8443", "https://app.localhost:8443"),
        ("--as booking.test --port 9443", 9443, "booking.test", "https://booking.test"),
    ] {
        let lent = quay.lend(&format!("app.localhost {words}"));
        eventually("it is lent", || quay.said().contains("Who comes:"));
        let (url, origin) = (format!("https://app.local:{port}/a"), format!("Origin: https://app.local:{port}"));
        let answer = quay.get(&["-i", "-H", &origin], &url);
        assert!(answer.contains(&format!("location: https://app.local:{port}/next\r\n")), "{answer}");
        assert!(answer.contains("set-cookie: tide=high; Path=/\r\n"), "{answer}");
        let seen = answer.lines().last().unwrap();
        assert!(seen.starts_with(host) && seen.ends_with(&format!(" {own}")), "{answer}");
        quay.end();
        drop(lent);
        fs::remove_file(quay.log()).unwrap();
    }
    let ran = quay.harbour.yandro(&["lend", "shop.localhost", "--as", "booking.test"]);
    assert!(ran.status == 2 && ran.stderr.contains("yandro map shop.localhost --alias booking.test"), "{ran}");
}
