//! Causes that are the same with either server.

use super::{Cause, Held, background, listener, shell, upstream, upstream_at};
use crate::namespace::Namespace;

/// With either server.
pub(super) const COMMON: &[Cause] = &[
    ("folder-missing", |m| shell(m, "mv saltmarsh elsewhere")),
    ("page-mixed", |m| shell(m, "printf '<script src=http://localhost/x.js></script>' > saltmarsh/index.html")),
    ("redirect-back", |m| {
        let rule = "self.send_response(302); self.send_header('Location', 'http://saltmarsh.test/'); self.send_header('Content-Length', '0'); self.end_headers(); return";
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000");
        vec![upstream(m, 3000, "ok", &format!("if self.headers['X-Forwarded-Proto'] == 'https': {rule}"))]
    }),
    ("hosts-unread", |m| shell(m, "umount /etc/hosts; rm /etc/hosts")),
    ("hosts-unread", |m| shell(m, "umount /etc/hosts; ln -sf /nowhere/hosts /etc/hosts")),
    ("hosts-unread", |m| shell(m, "chmod 600 /etc/hosts")),
    ("hosts-unread", |m| shell(m, "iconv -f UTF-8 -t UTF-16 /etc/hosts > $HOME/hosts && cat $HOME/hosts > /etc/hosts")),
    // The server runs, and its next reload would take all sites down.
    ("certificate-file", |m| shell(m, "rm $HOME/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem")),
    ("certificate-file", |m| shell(m, ": > $HOME/.local/share/yandro/certificates/saltmarsh.test/key.pem")),
    ("certificate-file", |m| shell(m, "truncate -s 100 $HOME/.local/share/yandro/certificates/saltmarsh.test/*.pem")),
    ("folder-forbidden", |m| shell(m, "chmod 700 saltmarsh")),
    ("folder-forbidden", |m| shell(m, "chmod 600 saltmarsh/index.html")),
    ("proof-not-written", |m| shell(m, "mount --bind saltmarsh saltmarsh; mount -o remount,ro,bind saltmarsh")),
    ("index-missing", |m| shell(m, "rm saltmarsh/index.html; yandro map saltmarsh.test --listing off || true")),
    ("https-status", |m| {
        let held = upstream(m, 3000, "low", "self.send_error(500); return");
        shell(m, "yandro map saltmarsh.test http://127.0.0.1:3000 -q || true");
        vec![held]
    }),
    ("upstream-down", |m| {
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000")
    }),
    ("upstream-down", |m| {
        // It found its port taken, and went to the next.
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000");
        vec![upstream(m, 3001, "ok", "")]
    }),
    // An upstream at the other family only, and one that closes connections.
    ("upstream-fails", |m| {
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000");
        vec![upstream_at(m, "::1", 3000, "ok", "")]
    }),
    ("upstream-fails", |m| {
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000");
        vec![upstream(m, 3000, "ok", "self.connection.shutdown(2); return")]
    }),
    ("upstream-refuses-host", |m| {
        drop(proxied(m));
        shell(m, "pkill -x python3; closed 3000");
        vec![upstream(m, 3000, "ok", "if self.headers['Host'] != '127.0.0.1:3000': self.send_error(403); return")]
    }),
    ("upstream-differs", |m| {
        let held = proxied(m);
        let other = upstream(m, 3001, "another", "");
        shell(m, "sed -i 's/127.0.0.1:3000/127.0.0.1:3001/' /etc/*/sites-available/yandro-saltmarsh.test.conf; reload");
        vec![held, other]
    }),
    ("php-down", |m| {
        shell(
            m,
            "printf '<?php echo 1;' > saltmarsh/index.php; yandro map saltmarsh.test --php=/run/php/gone.sock --index index.php -q || true",
        )
    }),
    ("php-fault", |m| {
        let page = "<?php\\nfunction tide() {\\n  throw new Exception(\"no tide table\");\\n}\\ntide();\\n";
        shell(m, &format!("rm saltmarsh/index.html; printf '{page}' > saltmarsh/index.php; mkdir -p /run/php"));
        let fpm = background(
            m,
            "import glob, subprocess, time\nran = subprocess.Popen([max(glob.glob('/usr/sbin/php-fpm*')), '--nodaemonize'], stderr=subprocess.DEVNULL)\nwhile not glob.glob('/run/php/*.sock'): time.sleep(0.05)\nREADY\nran.wait()",
        );
        shell(m, "yandro map saltmarsh.test --php -q || true");
        vec![fpm]
    }),
    ("https-forced", |m| {
        // `map` and `settle` refuse it; files that are edited by hand may have it.
        shell(m, "yandro map tides.test ./saltmarsh --https off -q; rename tides.test tides.dev; reload")
    }),
    ("resolver-fails", |m| {
        shell(m, "sed -i 's/^hosts:.*/hosts: files [SUCCESS=continue] dns/' /etc/nsswitch.conf; : > /etc/resolv.conf")
    }),
    ("resolver-differs", |m| {
        shell(
            m,
            "sed -i 's/^hosts:.*/hosts: files [SUCCESS=continue] dns/' /etc/nsswitch.conf; echo 'nameserver 127.0.0.1' > /etc/resolv.conf",
        );
        vec![background(m, NAMES)]
    }),
    ("unreachable", |m| {
        shell(m, "yandro map pier.test http://10.9.9.9 --server elsewhere --address 10.9.9.9 -q || true")
    }),
    ("http-fails", |m| {
        let held = listener(m, &[8080]);
        shell(m, "yandro map pier.test ./saltmarsh --server elsewhere --https off --http-port 8080 -q || true");
        vec![held]
    }),
    ("tls-plain", |m| {
        let held = upstream(m, 5173, "plain", "");
        shell(m, "yandro map pier.test https://127.0.0.1:5173 -q || true");
        vec![held]
    }),
    ("tls-fails", |m| {
        let held = listener(m, &[5173]);
        shell(m, "yandro map pier.test https://127.0.0.1:5173 -q || true");
        vec![held]
    }),
    ("port-closed", |m| shell(m, "yandro map pier.test https://127.0.0.1:5173 -q || true")),
    ("tls-version", |m| {
        own_tls(
            m,
            "context.set_ciphers('ALL:@SECLEVEL=0'); context.maximum_version = ssl.TLSVersion.TLSv1_1; context.minimum_version = ssl.TLSVersion.TLSv1",
            "c.recv(1)",
        )
    }),
    ("https-fails", |m| own_tls(m, "pass", "pass")),
    ("certificate-ends", |m| shell(m, "of_time -300 9; reload")),
    ("certificate-expired", |m| shell(m, "of_time -20 -9; reload")),
    ("certificate-early", |m| shell(m, "of_time 3 20; reload")),
    ("certificate-old", |m| {
        // With the times of yesterday, like a copy from another machine.
        shell(
            m,
            "c=$HOME/.local/share/yandro/certificates/saltmarsh.test; yandro cert issue saltmarsh.test --out tides -q; cp tides/* $c/; touch -d yesterday $c/*",
        )
    }),
    ("certificate-constraints", |m| {
        // The files of a site beyond them, and a certificate for it by the very key.
        shell(
            m,
            r"
            rename saltmarsh.test saltmarsh.example.com
            cd $HOME/.local/share/yandro; mv certificates/saltmarsh.test certificates/saltmarsh.example.com; cd certificates/saltmarsh.example.com
            printf 'subjectAltName=DNS:saltmarsh.example.com\nbasicConstraints=critical,CA:FALSE\nkeyUsage=critical,digitalSignature\nextendedKeyUsage=serverAuth\n' > e
            openssl req -new -key key.pem -subj /O=x | openssl x509 -req -CA ../../authority/issuing.pem -CAkey ../../authority/issuing.key -days 90 -extfile e -out leaf 2>/dev/null
            cat leaf ../../authority/issuing.pem > fullchain.pem; rm leaf e
            reload",
        )
    }),
    ("proxy-in-the-way", |m| {
        shell(
            m,
            r#"p=$HOME/.mozilla/firefox/tide; mkdir -p $p; certutil -N -d sql:$p --empty-password; printf 'user_pref("network.proxy.type", 1);\nuser_pref("network.proxy.ssl", "10.0.0.1");\n' > $p/prefs.js"#,
        )
    }),
];

/// The site, passed on to an upstream at port 3000.
fn proxied(machine: &Namespace) -> crate::kit::Background {
    let server = upstream(machine, 3000, "ok", "");
    shell(machine, "yandro map saltmarsh.test http://127.0.0.1:3000 -q");
    server
}

/// A site whose upstream speaks TLS itself, and breaks off after the handshake.
fn own_tls(machine: &Namespace, how: &str, then: &str) -> Held {
    shell(machine, "yandro map pier.test https://127.0.0.1:5173 -q || true");
    let script = format!(
        "import socket, ssl
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
folder = {:?}
context.load_cert_chain(folder + '/fullchain.pem', folder + '/key.pem')
{how}
listening = socket.create_server(('127.0.0.1', 5173))
READY
while True:
    c, _ = listening.accept()
    try:
        c = context.wrap_socket(c, server_side=True)
        {then}
    except OSError: pass
    c.close()",
        machine.path("home/.local/share/yandro/certificates/pier.test").to_str().unwrap()
    );
    vec![background(machine, &script)]
}

/// A name server that answers every question for an address with 10.9.9.9 (RFC 1035 section 4.1).
const NAMES: &str = "import socket, struct
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(('127.0.0.1', 53))
READY
while True:
    q, a = s.recvfrom(512)
    end = q.index(b'\\0', 12) + 5
    is_v4 = q[end - 4:end - 2] == b'\\0\\x01'
    r = q[:2] + struct.pack('>HHHHH', 0x8580, 1, 1 if is_v4 else 0, 0, 0) + q[12:end]
    if is_v4: r += b'\\xc0\\x0c\\0\\x01\\0\\x01\\0\\0\\0\\x3c\\0\\x04' + bytes([10, 9, 9, 9])
    s.sendto(r, a)";
