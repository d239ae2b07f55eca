//! Dev servers that speak TLS themselves, with a certificate of yandro's, at their own port.

use std::process::Stdio;

use super::kit::{Background, Sysroot, YANDRO, eventually, steady};
use super::namespace::Namespace;

/// A dev server as a project has it: its TLS comes from the environment.
const SERVER: &str = r"
import http.server, os, ssl
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain(os.environ['YANDRO_CERTIFICATE'], os.environ['YANDRO_KEY'])
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = b'<h1>Booking of ' + os.environ['YANDRO_HOST'].encode() + b'</h1>\n'
        self.send_response(200)
        self.send_header('Content-Length', str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *words): pass
server = http.server.ThreadingHTTPServer(('127.0.0.1', 5173), Page)
server.socket = context.wrap_socket(server.socket, server_side=True)
server.serve_forever()
";

#[test]
fn it_takes_the_certificate_from_its_environment_and_is_proven_at_its_port() {
    let Some(machine) = Namespace::new(&["python3"]) else { return };
    let map = ["map", "booking.saltmarsh.test", "https://127.0.0.1:5173"];
    let ran = machine.yandro(&[&map[..], &["--server", "apache"]].concat());
    insta::assert_snapshot!(steady(&ran), @"
    error: https://127.0.0.1:5173 speaks TLS itself, and is asked for at its own port: no other server answers for it
    fix: leave `--server`, `--https` and `--plain` out; or give the upstream as http:// and have a server speak TLS for it
    [status 2]
    ");
    // It isn't running yet: the output says what it needs.
    let ran = machine.yandro(&map);
    insta::assert_snapshot!(steady(&ran), @"
    booking.saltmarsh.test -> https://127.0.0.1:5173
      authority  made, until $DATE
      certificate  made for booking.saltmarsh.test, until $DATE
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      proof  written, but with problems

    ✗ booking.saltmarsh.test: nothing listens on port 5173 of 127.0.0.1: the server there isn't running
        fix: yandro cert env booking.saltmarsh.test

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    note: what the dev server needs for TLS: yandro cert env booking.saltmarsh.test
    [status 1]
    ");
    assert!(machine.hosts().contains("booking.saltmarsh.test"));
    let start = |site: &str| {
        let script = format!("eval \"$({YANDRO} cert env {site})\"; exec python3 -c \"$0\"");
        let mut command = machine.command("sh");
        Background::start(command.args(["-c", &script, SERVER]).stderr(Stdio::inherit()))
    };
    let server = start("booking.saltmarsh.test");
    let url = "https://booking.saltmarsh.test:5173/";
    eventually("the dev server answers", || machine.curl(&[url]).status == 0);
    assert_eq!(machine.curl(&[url]).stdout, "<h1>Booking of booking.saltmarsh.test</h1>\n");
    let ran = machine.yandro(&["check"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    booking.saltmarsh.test  https://127.0.0.1:5173, a server on another machine
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✓ resolver  127.0.0.1  TIME
      ✓ address  the one that was declared
      ✓ connection  port 5173  TIME
      – virtual host  the upstream's own
      – HTTP  HTTPS alone
      – redirect  HTTPS alone
      ✓ TLS handshake  TLS 1.3  TIME
      ✓ TLS, on offer  TLS 1.2 and 1.3, no choice of protocol  TIME
      ✓ unknown names  get this site's certificate  TIME
      ✓ certificate chain  trusted
      ✓ certificate names  covered
      ✓ certificate validity  396 days
      ✓ certificate on disk  the same
      – trust stores  not trusted yet. Run: yandro authority trust
      ✓ HTTPS  200  TIME
      ✓ application  stays
      ✓ proof  proven

    1 site, 1 name: all proven (TIME)
    [status 0]
    ");
    drop(server);
    machine.run("pkill", &["-f", "ThreadingHTTPServer"]).succeeds();
    let ran = machine.yandro(&["check"]);
    insta::assert_snapshot!(steady(&ran), @"
    booking.saltmarsh.test  https://127.0.0.1:5173, a server on another machine
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✓ resolver  127.0.0.1  TIME
      ✓ address  the one that was declared
      ✗ connection  refused  TIME
      – virtual host  the upstream's own
      – HTTP  HTTPS alone
      – redirect  HTTPS alone
      ✗ TLS handshake  refused  TIME
      – TLS, on offer  not asked
      – unknown names  not asked
      · certificate chain  not tried, since the TLS handshake failed
      · certificate names  not tried, since the TLS handshake failed
      · certificate validity  not tried, since the TLS handshake failed
      · certificate on disk  not tried, since the TLS handshake failed
      – trust stores  not trusted yet. Run: yandro authority trust
      · HTTPS  not tried, since the TLS handshake failed
      – application  no page of the site's own
      · proof  not tried, since the TLS handshake failed

    ✗ booking.saltmarsh.test: nothing listens on port 5173 of 127.0.0.1: the server there isn't running
        fix: yandro cert env booking.saltmarsh.test

    1 site, 1 name: 0 proven, 1 not (TIME)
    [status 1]
    ");
    // A server with another site's certificate is distinguished.
    machine.yandro(&["map", "depot.saltmarsh.test", "https://127.0.0.1:5174"]);
    let _other = start("depot.saltmarsh.test");
    eventually("the other answers", || machine.curl(&["--insecure", url]).status == 0);
    let ran = machine.yandro(&["check", "booking.saltmarsh.test"]);
    insta::assert_snapshot!(steady(&ran), @"
    booking.saltmarsh.test  https://127.0.0.1:5173, a server on another machine
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✓ resolver  127.0.0.1  TIME
      ✓ address  the one that was declared
      ✓ connection  port 5173  TIME
      – virtual host  the upstream's own
      – HTTP  HTTPS alone
      – redirect  HTTPS alone
      ✓ TLS handshake  TLS 1.3  TIME
      ✓ TLS, on offer  TLS 1.2 and 1.3, no choice of protocol  TIME
      ✓ unknown names  get this site's certificate  TIME
      ✓ certificate chain  trusted
      ✗ certificate names  other names
      ✓ certificate validity  396 days
      – certificate on disk  another is served
      – trust stores  not trusted yet. Run: yandro authority trust
      · HTTPS  not tried, since the certificate names failed
      · application  not tried, since the certificate names failed
      · proof  not tried, since the certificate names failed

    ✗ booking.saltmarsh.test: the certificate does not name `booking.saltmarsh.test`
        seen: it names depot.saltmarsh.test
        fix: yandro cert env booking.saltmarsh.test

    1 site, 1 name: 0 proven, 1 not (TIME)
    [status 1]
    ");
    // With a server in between, it is an upstream like any other.
    machine.yandro(&["map", "booking.saltmarsh.test", "./saltmarsh"]).succeeds();
    machine.yandro(&["unmap", "booking.saltmarsh.test", "depot.saltmarsh.test"]).succeeds();
}

#[test]
fn cert_show_prints_content_and_paths() {
    let sysroot = Sysroot::new();
    insta::assert_snapshot!(sysroot.yandro(&["cert", "show", "saltmarsh.test"]), @"
    error: saltmarsh.test:443 shows no certificate: failed to lookup address information: Name or service not known
    fix: see what answers there: yandro check https://saltmarsh.test:443/
    [status 3]
    ");
    sysroot
        .yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test", "--server", "built-in"])
        .succeeds();
    let shown = sysroot.yandro(&["cert", "show", "www.saltmarsh.test"]).succeeds().stdout;
    for line in ["covers       saltmarsh.test, www.saltmarsh.test", "valid        until $DATE, 396 days"] {
        assert!(shown.contains(line), "{shown}");
    }
    insta::assert_snapshot!(sysroot.yandro(&["cert", "show", "saltmarsh.test", "--paths"]), @"
      host name    saltmarsh.test
      certificate  $ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem
      key          $ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem
      root         $ROOT/home/ada/.local/share/yandro/authority/root.pem
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["cert", "env", "saltmarsh.test", "--format", "dotenv"]), @r#"
    # For your own code: the host name, the certificate with its chain and the key, in PEM
    YANDRO_HOST="saltmarsh.test"
    YANDRO_CERTIFICATE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    YANDRO_KEY="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # Node: react-scripts
    HTTPS="true"
    HOST="saltmarsh.test"
    SSL_CRT_FILE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    SSL_KEY_FILE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # Python: uvicorn
    UVICORN_HOST="saltmarsh.test"
    UVICORN_SSL_CERTFILE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    UVICORN_SSL_KEYFILE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # Python: Flask
    FLASK_RUN_HOST="saltmarsh.test"
    FLASK_RUN_CERT="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    FLASK_RUN_KEY="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # .NET: Kestrel
    ASPNETCORE_Kestrel__Certificates__Default__Path="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    ASPNETCORE_Kestrel__Certificates__Default__KeyPath="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # Java: Spring Boot
    SERVER_SSL_CERTIFICATE="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem"
    SERVER_SSL_CERTIFICATEPRIVATEKEY="$ROOT/home/ada/.local/share/yandro/certificates/saltmarsh.test/key.pem"
    # Node programs that call the site trust it by this
    NODE_EXTRA_CA_CERTS="$ROOT/home/ada/.local/share/yandro/authority/root.pem"
    note: have the name lead to the dev server's own port: yandro map saltmarsh.test https://127.0.0.1:PORT
    [status 0]
    "#);
    sysroot.yandro(&["map", "saltmarsh.test", "--plain"]).succeeds();
    insta::assert_snapshot!(sysroot.yandro(&["cert", "env", "saltmarsh.test"]), @"
    error: `saltmarsh.test` has no certificate
    fix: have it made: yandro map saltmarsh.test --https only
    [status 3]
    ");
}
