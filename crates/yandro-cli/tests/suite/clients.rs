//! Real clients and the certificates: with the root trusted, without, and a bank's certificate that a
//! thief forged with the stored key.

use std::fs;

use super::kit::{Background, eventually};
use super::namespace::Namespace;

/// Answers every request, and writes its path down: only a client that took the certificate asks.
const SERVER: &str = r"
import http.server, ssl, sys
port, chain, key, log = int(sys.argv[1]), sys.argv[2], sys.argv[3], sys.argv[4]
class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        open(log, 'a').write(self.path + '\n')
        self.send_response(200)
        self.send_header('Content-Length', '3')
        self.end_headers()
        self.wfile.write(b'ok\n')
    def log_message(self, *words):
        pass
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(chain, key)
class Server(http.server.ThreadingHTTPServer):
    def get_request(self):
        socket, address = super().get_request()
        return context.wrap_socket(socket, server_side=True, do_handshake_on_connect=False), address
Server(('127.0.0.1', port), Handler).serve_forever()
";

/// A client and the command by which it asks, as a shell reads it: `$url`, `$host`, `$port`, `$home`,
/// `$root`. Each asks for its own path.
const CLIENTS: &[(&str, &str)] = &[
    ("curl", "curl --silent --max-time 10 $url"),
    (
        "openssl",
        "printf 'GET /openssl HTTP/1.0\\r\\n\\r\\n' | openssl s_client -quiet -x509_strict -verify_return_error -verify_hostname $host -servername $host -connect $host:$port",
    ),
    (
        "gnutls",
        "printf 'GET /gnutls HTTP/1.0\\r\\n\\r\\n' | gnutls-cli --x509cafile /etc/ssl/certs/ca-certificates.crt -p $port $host",
    ),
    ("nss", "printf 'GET /nss HTTP/1.0\\r\\n\\r\\n' | timeout 10 tstclnt -4 -d sql:$home/.pki/nssdb -h $host -p $port"),
    (
        "python",
        "python3 -c \"import ssl, sys, urllib.request; c = ssl.create_default_context(); c.verify_flags |= ssl.VERIFY_X509_STRICT; urllib.request.urlopen(sys.argv[1], context=c)\" $url",
    ),
    ("java", "java -XX:-UsePerfData Ask.java $url"),
    ("node", "NODE_EXTRA_CA_CERTS=$root node -e \"require('https').get(process.argv[1]).on('error', () => {})\" $url"),
    (
        "chromium",
        "timeout 25 chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-dev-shm-usage --disable-background-networking --user-data-dir=$home/chromium --dump-dom $url",
    ),
    (
        "firefox",
        "timeout 25 firefox-esr --headless --no-remote --profile $home/.mozilla/firefox/tide --screenshot $home/page.png $url",
    ),
];

/// The clients whose request arrived.
fn asking(machine: &Namespace, host: &str, port: u16, log: &str) -> Vec<&'static str> {
    let log = machine.path(log);
    fs::write(&log, "").unwrap();
    let home = machine.path("home");
    let root = machine.path("anchor.pem");
    // All at once: each is slow to start, and none waits for another.
    let mut all = format!("host={host}; port={port}; home={}; root={}\n", home.display(), root.display());
    for (client, line) in CLIENTS {
        all += &format!("(url=https://$host:$port/{client}; {line}) >/dev/null 2>&1 &\n");
    }
    machine.run("sh", &["-c", &(all + "wait\n")]);
    let asked = fs::read_to_string(&log).unwrap();
    let has = |client: &str| asked.lines().any(|line| line == format!("/{client}"));
    CLIENTS.iter().map(|(client, _)| *client).filter(|client| has(client)).collect()
}

/// A thief with the stored key: openssl instead of yandro's own checks.
const FORGE: &str = r#"
cd "$1"
authority=$1/home/.local/share/yandro/authority
openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout bank.key -subj /O=Bank -out bank.csr 2>/dev/null
printf 'subjectAltName=DNS:bank.example.com\nbasicConstraints=critical,CA:FALSE\nkeyUsage=critical,digitalSignature\nextendedKeyUsage=serverAuth\nsubjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n' > bank.ext
openssl x509 -req -in bank.csr -CA $authority/issuing.pem -CAkey $authority/issuing.key -days 90 -extfile bank.ext -out bank.pem 2>/dev/null
cat $authority/issuing.pem >> bank.pem
echo '127.0.0.1 bank.example.com' >> /etc/hosts
cp $authority/root.pem anchor.pem
"#;

#[test]
fn every_client_takes_a_site_of_a_trusted_root_and_none_a_bank_of_a_thief() {
    let programs =
        ["openssl", "gnutls-cli", "certutil", "tstclnt", "python3", "java", "javac", "node", "chromium", "firefox-esr"];
    let Some(machine) = Namespace::new(&programs) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    fs::write(machine.path("server.py"), SERVER).unwrap();
    let source = "public class Ask { public static void main(String[] a) throws Exception { new java.net.URL(a[0]).openStream().close(); } }\n";
    fs::write(machine.path("Ask.java"), source).unwrap();
    for store in ["home/.mozilla/firefox/tide", "home/.pki/nssdb"] {
        let folder = machine.path(store);
        fs::create_dir_all(&folder).unwrap();
        let database = format!("sql:{}", folder.display());
        machine.run("certutil", &["-N", "-d", &database, "--empty-password"]).succeeds();
    }
    // A browser that looks at its makers' pages first takes its time for nothing here.
    let quiet = "user_pref('browser.aboutwelcome.enabled', false);\n\
        user_pref('datareporting.policy.dataSubmissionEnabled', false);\n\
        user_pref('app.update.enabled', false);\n\
        user_pref('browser.shell.checkDefaultBrowser', false);\n\
        user_pref('security.OCSP.enabled', 0);\n";
    fs::write(machine.path("home/.mozilla/firefox/tide/user.js"), quiet).unwrap();
    machine.run("sh", &["-ec", FORGE, "sh", &machine.root().display().to_string()]).succeeds();
    let anchor = fs::read(machine.path("anchor.pem")).unwrap();
    let of_site = machine.path("home/.local/share/yandro/certificates/saltmarsh.test");
    let serve = |port: u16, chain: &std::path::Path, key: &std::path::Path, log: &str| {
        let mut server = machine.command("python3");
        let server = server.arg(machine.path("server.py")).arg(port.to_string()).args([chain, key]);
        Background::start(server.arg(machine.path(log)))
    };
    let _site = serve(8443, &of_site.join("fullchain.pem"), &of_site.join("key.pem"), "site.log");
    let _bank = serve(8444, &machine.path("bank.pem"), &machine.path("bank.key"), "bank.log");
    for url in ["https://saltmarsh.test:8443/", "https://bank.example.com:8444/"] {
        eventually("it is served", || machine.run("curl", &["--insecure", "--silent", url]).status == 0);
    }
    let all: Vec<&str> = CLIENTS.iter().map(|(client, _)| *client).collect();
    // Node gets the root by a variable: without it, it doesn't trust.
    fs::write(machine.path("anchor.pem"), "").unwrap();
    assert_eq!(asking(&machine, "saltmarsh.test", 8443, "site.log"), [""; 0], "nobody trusts the root yet");
    machine.yandro(&["authority", "trust"]).succeeds();
    fs::write(machine.path("anchor.pem"), &anchor).unwrap();
    assert_eq!(asking(&machine, "saltmarsh.test", 8443, "site.log"), all, "the root is trusted");
    assert_eq!(asking(&machine, "bank.example.com", 8444, "bank.log"), [""; 0], "the bank is outside the constraints");
    let shown = machine.yandro(&["authority", "show", "--json"]).succeeds().stdout;
    for runtime in ["curl", "OpenSSL", "Python", "Java"] {
        let measured = shown
            .split("\"runtimes\"")
            .nth(1)
            .unwrap()
            .split('}')
            .find(|part| part.contains(&format!("\"{runtime}\"")));
        assert!(measured.is_some_and(|part| part.contains("\"trusts\":true")), "{runtime}: {shown}");
    }
    machine.yandro(&["authority", "distrust"]).succeeds();
    fs::write(machine.path("anchor.pem"), "").unwrap();
    assert_eq!(asking(&machine, "saltmarsh.test", 8443, "site.log"), [""; 0], "nobody trusts the root any more");
    let shown = machine.yandro(&["authority", "show", "--json"]).succeeds().stdout;
    assert!(!shown.contains("\"trusts\":true"), "{shown}");
}
