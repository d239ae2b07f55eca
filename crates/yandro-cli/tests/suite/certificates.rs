//! Certificates that others made, looked at with `yandro cert show`.

use std::process::{Command, Stdio};

use super::kit::{Background, Sysroot, eventually, has, steady};
use super::namespace::Namespace;

/// Makes a certificate with openssl, by the words of its command line; files `NAME.pem`, `NAME.key`.
fn make(sysroot: &Sysroot, name: &str, words: &str) {
    let root = sysroot.root().display();
    let line = format!("req -x509 -nodes -keyout {root}/{name}.key -out {root}/{name}.pem {words}");
    let made = Command::new("openssl").args(line.split(' ')).stderr(Stdio::null()).status().unwrap();
    assert!(made.success(), "{line}");
}

#[test]
fn cert_show_lists_objections_to_any_file() {
    if !has(&["openssl"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    make(&sysroot, "old", "-newkey rsa:1024 -sha1 -days 3650 -subj /CN=saltmarsh.test");
    insta::assert_snapshot!(sysroot.yandro(&["cert", "show", "old.pem"]), @"
    $ROOT/old.pem
      covers     nothing
      valid      until $DATE, 3649 days
      issued by  CN=saltmarsh.test
    ✗ it has no subject alternative names, and browsers go by nothing else: `saltmarsh.test` is only in its common name, which they ignore
    ✗ it lasts 3650 days: Apple's systems take no more than 825
    ✗ it is an authority's certificate, and no server's
    ✗ it is signed with SHA-1, which nobody takes any more
    ✗ its RSA key has 1024 bits: browsers take 2048 and more
    [status 1]
    ");
    let right = "-newkey ec -pkeyopt ec_paramgen_curve:P-256 -days 90 -subj /O=Ferries -addext subjectAltName=DNS:saltmarsh.test,IP:127.0.0.1 -addext basicConstraints=critical,CA:FALSE -addext keyUsage=critical,digitalSignature";
    make(&sysroot, "right", right);
    make(&sysroot, "other", right);
    let ran = sysroot.yandro(&["cert", "show", "right.pem", "--key", "right.key"]);
    insta::assert_snapshot!(steady(&ran), @"
    $ROOT/right.pem
      covers  saltmarsh.test, 127.0.0.1
      valid  until $DATE, 89 days
      issued by  O=Ferries
    ✗ it is self-signed: no authority has signed it
    [status 1]
    ");
    assert_eq!(ran.stdout.matches('✗').count(), 1, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    $ROOT/right.pem
      covers  saltmarsh.test, 127.0.0.1
      valid  until $DATE, 89 days
      issued by  O=Ferries
    ✗ it is self-signed: no authority has signed it
    [status 1]
    ");
    let ran = sysroot.yandro(&["cert", "show", "right.pem", "--key", "other.key"]);
    insta::assert_snapshot!(steady(&ran), @"
    $ROOT/right.pem
      covers  saltmarsh.test, 127.0.0.1
      valid  until $DATE, 89 days
      issued by  O=Ferries
    ✗ it is self-signed: no authority has signed it
    ✗ the key is not the one that it is for: no server starts with the two
    [status 1]
    ");
    // The same in DER.
    let der = sysroot.path("right.der");
    let convert = ["x509", "-in", "right.pem", "-outform", "DER", "-out", der.to_str().unwrap()];
    assert!(Command::new("openssl").args(convert).current_dir(sysroot.root()).status().unwrap().success());
    assert!(sysroot.yandro(&["cert", "show", "right.der"]).stdout.contains("saltmarsh.test, 127.0.0.1"));
    sysroot.write("none.pem", "tide\n");
    let ran = sysroot.yandro(&["cert", "show", "none.pem"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: $ROOT/none.pem: the certificate can't be read: there is none in the file
    [status 2]
    ");
    let ran = sysroot.yandro(&["cert", "show", "./gone.pem"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: no such file: `$ROOT/gone.pem`
    [status 2]
    ");
}

#[test]
fn a_certificate_is_shown_as_it_is_served() {
    let Some(machine) = Namespace::new(&["openssl"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let ran = machine.yandro(&["cert", "show", "https://saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test:443, as it is served
      covers  saltmarsh.test
      valid  until $DATE, 396 days
      issued by  O=Yandro local authority of USER CN=Yandro issuing certificate for USER, DATE (sent with it)
    Valid for every client that trusts the authority.
    [status 0]
    ");
    let ran = machine.yandro(&["cert", "show", "https://saltmarsh.test:80"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: saltmarsh.test:80 shows no certificate: plain HTTP is spoken there
    fix: see what answers there: yandro check https://saltmarsh.test:80/
    [status 3]
    ");
    let ran = machine.yandro(&["cert", "show", "https://saltmarsh.test:81"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: saltmarsh.test:81 shows no certificate: connection refused
    fix: see what answers there: yandro check https://saltmarsh.test:81/
    [status 3]
    ");
    // Somebody else's server, with an old one.
    let make = "req -x509 -newkey rsa:2048 -nodes -keyout own.key -out own.pem -days 1000 -subj /CN=saltmarsh.test";
    machine.run("openssl", &make.split(' ').collect::<Vec<_>>()).succeeds();
    let mut server = machine.command("openssl");
    let files = ["-cert", "own.pem", "-key", "own.key"].map(|word| match word.strip_prefix("own") {
        Some(_) => machine.path(word).display().to_string(),
        None => word.to_owned(),
    });
    let _server = Background::start(server.args(["s_server", "-quiet", "-accept", "8443"]).args(files));
    let look = || machine.yandro(&["cert", "show", "https://saltmarsh.test:8443", "--json"]);
    eventually("it is served", || look().status == 1);
    let seen = look().stdout;
    for code in ["no-names", "too-long", "authority"] {
        assert!(seen.contains(&format!("\"code\":\"{code}\"")), "{seen}");
    }
}

#[test]
fn the_root_is_exported_in_every_form_and_no_key_with_it() {
    if !has(&["openssl", "python3"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    let ran = sysroot.yandro(&["authority", "export"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: no local authority exists yet
    fix: the first `yandro map NAME FOLDER` makes it
    [status 3]
    ");
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let pem = sysroot.read("home/ada/.local/share/yandro/authority/root.pem");
    assert_eq!(sysroot.yandro(&["authority", "export"]).succeeds().stdout, pem);
    sysroot.yandro(&["authority", "export", "--format", "der", "--out", "root.der"]).succeeds();
    sysroot.yandro(&["authority", "export", "--format", "mobileconfig", "--out", "root.mobileconfig"]).succeeds();
    // Others' readers find the same certificate in both.
    let script = "import plistlib, ssl; profile = plistlib.load(open('root.mobileconfig', 'rb'));\n\
        assert profile['PayloadType'] == 'Configuration'\n\
        part = profile['PayloadContent'][0]\n\
        assert part['PayloadType'] == 'com.apple.security.root'\n\
        assert part['PayloadContent'] == open('root.der', 'rb').read()\n\
        print(ssl.DER_cert_to_PEM_cert(part['PayloadContent']), end='')";
    let read = Command::new("python3").args(["-c", script]).current_dir(sysroot.root()).output().unwrap();
    assert_eq!(
        String::from_utf8_lossy(&read.stdout).replace(['\n', '\r'], ""),
        pem.replace(['\n', '\r'], ""),
        "{read:?}"
    );
    sysroot.write("mine.pem", "mine\n");
    let ran = sysroot.yandro(&["authority", "export", "--out", "mine.pem"]);
    assert!(ran.status == 2 && sysroot.read("mine.pem") == "mine\n", "{ran}");
    insta::assert_snapshot!(sysroot.yandro(&["authority", "env"]), @"
    # Node, in addition to its own list
    export NODE_EXTRA_CA_CERTS='$ROOT/home/ada/.local/share/yandro/authority/root.pem'
    # Deno, in addition to its own list
    export DENO_CERT='$ROOT/home/ada/.local/share/yandro/authority/root.pem'
    note: Python, Ruby, Go, curl and git take the system's list, once it has the root: yandro authority trust
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["authority", "env", "--format", "dockerfile"]), @r#"
    # An image of Debian's family; root.pem: yandro authority export --out root.pem
    COPY root.pem /usr/local/share/ca-certificates/yandro.crt
    RUN update-ca-certificates
    # Node, in addition to its own list
    ENV NODE_EXTRA_CA_CERTS="/usr/local/share/ca-certificates/yandro.crt"
    # Deno, in addition to its own list
    ENV DENO_CERT="/usr/local/share/ca-certificates/yandro.crt"
    # Programs with OpenSSL, Python, Ruby, Go, and Rust with the system's list
    ENV SSL_CERT_FILE="/etc/ssl/certs/ca-certificates.crt"
    # Python: requests, pip
    ENV REQUESTS_CA_BUNDLE="/etc/ssl/certs/ca-certificates.crt"
    ENV PIP_CERT="/etc/ssl/certs/ca-certificates.crt"
    # curl and git with a separate list
    ENV CURL_CA_BUNDLE="/etc/ssl/certs/ca-certificates.crt"
    ENV GIT_SSL_CAINFO="/etc/ssl/certs/ca-certificates.crt"
    [status 0]
    "#);
}

#[test]
fn programs_with_a_list_of_their_own_trust_it_by_their_variables() {
    let Some(machine) = Namespace::new(&["python3", "update-ca-certificates"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    // Without a list of the system's: `certifi` and its like bring their own.
    let fetch = "import os, ssl, urllib.request\ncontext = ssl.create_default_context(cafile=os.environ['REQUESTS_CA_BUNDLE'])\nprint(urllib.request.urlopen('https://saltmarsh.test/', context=context).read().decode(), end='')";
    let run = |line: &str| {
        let script = format!("eval \"$({} authority env)\"; {line}", super::kit::YANDRO);
        machine.run("sh", &["-c", &script])
    };
    let curl = "curl --silent --capath /nonexistent https://saltmarsh.test/";
    assert_ne!(run(curl).status, 0, "the system doesn't know it yet");
    machine.yandro(&["authority", "trust", "--store", "system"]).succeeds();
    assert_eq!(run(curl).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
    assert_eq!(run(&format!("python3 -c \"{fetch}\"")).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
}

/// Has requests signed whose keys browsers don't take; `request` makes one with an RSA key.
fn weak_keys_are_named(machine: &Namespace, request: &str) {
    for (key, words) in [
        ("ec -pkeyopt ec_paramgen_curve:secp521r1", "on a curve that browsers don't take: they know P-256 and P-384"),
        ("rsa:1024", "its RSA key has 1024 bits: browsers take 2048 and more"),
        ("ed25519", "an Ed25519 key, which browsers don't take"),
    ] {
        let request = request.replace("rsa:2048", key).replace("pier.csr", "weak.csr").replace("pier.key", "weak.key");
        machine.run("openssl", &request.split(' ').collect::<Vec<_>>()).succeeds();
        let ran = machine.yandro(&["cert", "sign", "weak.csr", "--out", "weak.pem"]);
        assert!(ran.status == 2 && ran.stderr.contains(words) && !machine.path("weak.pem").exists(), "{key}: {ran}");
    }
}

#[test]
fn rsa_keys_without_openssl_are_refused_with_a_hint() {
    let Some(machine) = Namespace::new(&["mount"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    machine.run("sh", &["-c", "mount --bind /dev/null /usr/bin/openssl"]).succeeds();
    std::fs::write(machine.path("right"), "the tide turns\n").unwrap();
    let before = machine.yandro(&["history"]).stdout;
    insta::assert_snapshot!(machine.yandro(&["map", "rsa.test", "./saltmarsh", "--cert-key-kind", "rsa3072"]), @"
    error: a new rsa3072 key can't be made: it takes the program `openssl`, which is not installed (looked for: /usr/bin/openssl, /usr/local/bin/openssl, /opt/homebrew/bin/openssl)
    fix: install the package `openssl`, or take a kind that yandro makes by itself: p256 or p384
    [status 2]
    ");
    let issue = ["cert", "issue", "pier.test", "--p12", "--p12-passphrase-file", "right", "--out", "pier"];
    insta::assert_snapshot!(machine.yandro(&issue), @"
    error: the PKCS#12 file can't be made: it takes the program `openssl`, which is not installed (looked for: /usr/bin/openssl, /usr/local/bin/openssl, /opt/homebrew/bin/openssl)
    fix: install the package `openssl`, or leave `--p12` out: you get certificate and key as two PEM files
    [status 3]
    ");
    assert_eq!(machine.yandro(&["history"]).stdout, before);
    assert!(!machine.path("pier").exists());
}

#[test]
fn certificates_are_issued_for_names_that_are_no_sites_and_renewed_when_asked() {
    let Some(machine) = Namespace::new(&["openssl", "certutil"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let out = machine.path("tides");
    let names = ["tides.test", "*.tides.test", "--address", "127.0.0.1", "--days", "90", "--out", "tides"];
    let ran = machine.yandro(&[&["cert", "issue"][..], &names].concat()).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    tides.test, *.tides.test, 127.0.0.1
      valid  until $DATE, 89 days
      certificate  $ROOT/tides/fullchain.pem (with its chain: this is what servers take)
      key  $ROOT/tides/key.pem
    note: `yandro cert renew` renews it in its last 30 days, like those of the sites
    [status 0]
    ");
    let mode = |path: &str| {
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(out.join(path)).unwrap().permissions()) & 0o777
    };
    assert_eq!((mode("key.pem"), mode("fullchain.pem")), (0o600, 0o644));
    // The strictest client, for a name, a name below and the address.
    let root = machine.root_certificate().display().to_string();
    let chain = out.join("fullchain.pem").display().to_string();
    let strict = ["verify", "-x509_strict", "-CAfile", &root, "-untrusted", &chain, "-purpose", "sslserver"];
    for named in
        [["-verify_hostname", "tides.test"], ["-verify_hostname", "low.tides.test"], ["-verify_ip", "127.0.0.1"]]
    {
        machine.run("openssl", &[&strict[..], &named, &[&chain]].concat()).succeeds();
    }
    let again = machine.yandro(&[&["cert", "issue"][..], &names].concat());
    insta::assert_snapshot!(steady(&again), @"
    error: there is a file $ROOT/tides/fullchain.pem already
    fix: give another folder, or take it away first
    [status 2]
    ");
    for (refused, words) in [
        (["cert", "issue", "ferries.example.com", "--out", "x"], "can't issue for `ferries.example.com`"),
        (["cert", "issue", "*.test", "--out", "x"], "right below a suffix"),
    ] {
        let ran = machine.yandro(&refused);
        assert!(ran.status == 2 && ran.stderr.contains(words) && !machine.path("x").exists(), "{ran}");
    }
    let ran = machine.yandro(&["cert", "issue", "tides.test", "--days", "826", "--out", "x"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: a certificate of 826 days can't be issued: it lasts at least one, and Apple's systems take no more than 825
    [status 2]
    ");

    // All in one file, behind a passphrase: others' readers open it, and nobody else does.
    std::fs::write(machine.path("right"), "the tide turns\n").unwrap();
    for kind in ["p256", "p384", "rsa3072"] {
        let out = format!("pkcs12-{kind}");
        let words = [
            "cert",
            "issue",
            "pier.test",
            "--key-kind",
            kind,
            "--p12",
            "--p12-passphrase-file",
            "right",
            "--out",
            &out,
        ];
        machine.yandro(&words).succeeds();
        let file = format!("{out}/certificate.p12");
        let open = |pass: &str, what: &[&str]| {
            let words = [&["pkcs12", "-in", &file, "-passin", pass], what].concat();
            machine.run("openssl", &words)
        };
        assert!(open("file:right", &["-nokeys"]).succeeds().stdout.contains("BEGIN CERTIFICATE"), "{kind}");
        assert!(open("file:right", &["-nocerts", "-nodes"]).succeeds().stdout.contains("PRIVATE KEY"), "{kind}");
        assert_ne!(open("pass:the tide waits", &["-nokeys"]).status, 0);
    }

    // A request of somebody's, for a key that never leaves them: an RSA key here.
    let request = "req -new -newkey rsa:2048 -nodes -keyout pier.key -out pier.csr -subj /CN=pier.test -addext subjectAltName=DNS:pier.test";
    machine.run("openssl", &request.split(' ').collect::<Vec<_>>()).succeeds();
    machine.yandro(&["cert", "sign", "pier.csr", "--out", "pier.pem"]).succeeds();
    let pier = machine.path("pier.pem").display().to_string();
    let judged =
        ["verify", "-x509_strict", "-CAfile", &root, "-untrusted", &pier, "-verify_hostname", "pier.test", &pier];
    machine.run("openssl", &judged).succeeds();
    machine.yandro(&["cert", "show", "pier.pem", "--key", "pier.key"]).succeeds();
    // NSS wants its key to encipher, too.
    let nss = "mkdir nss \
        && certutil -N -d nss --empty-password \
        && certutil -A -d nss -n root -t C,, -i $1 \
        && csplit -sz -f part- pier.pem /BEGIN/ '{1}' \
        && certutil -A -d nss -n issuing -t ,, -i part-01 \
        && certutil -A -d nss -n pier -t ,, -i part-00 \
        && certutil -V -d nss -n pier -u V -e";
    machine.run("sh", &["-c", nss, "sh", &root]).succeeds();
    let shown = machine.run("openssl", &["x509", "-in", &pier, "-noout", "-ext", "keyUsage"]).succeeds().stdout;
    assert!(shown.contains("Digital Signature, Key Encipherment"), "{shown}");
    weak_keys_are_named(&machine, request);
    let request = request.replace("DNS:pier.test", "DNS:ferries.example.com").replace("pier.csr", "bank.csr");
    machine.run("openssl", &request.split(' ').collect::<Vec<_>>()).succeeds();
    let ran = machine.yandro(&["cert", "sign", "bank.csr", "--out", "bank.pem"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the authority can't issue for `ferries.example.com`: it is limited to names that end in `.test`, `.localhost`, `.internal`, `.home.arpa`, `.example`, `.invalid` or `.local`
    fix: choose a name below one of these suffixes, such as `saltmarsh.test`; or let the authority issue for it: yandro authority widen ferries.example.com
    [status 2]
    ");
    let mut broken = std::fs::read(machine.path("pier.csr")).unwrap();
    let at = broken.len() - 60;
    broken[at] = if broken[at] == b'A' { b'B' } else { b'A' };
    std::fs::write(machine.path("broken.csr"), broken).unwrap();
    let ran = machine.yandro(&["cert", "sign", "broken.csr", "--out", "broken.pem"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the signing request can't be taken: Invalid CSR signature
    [status 2]
    ");

    let served = || machine.yandro(&["cert", "show", "https://saltmarsh.test", "--json"]).stdout;
    let serial = || {
        let script =
            "openssl s_client -connect saltmarsh.test:443 </dev/null 2>/dev/null | openssl x509 -noout -serial";
        machine.run("sh", &["-c", script]).stdout
    };
    let before = serial();
    let ran = machine.yandro(&["cert", "renew"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    no certificate ends within 30 days; nothing was changed
    [status 0]
    ");
    let ran = machine.yandro(&["cert", "renew", "--within", "400"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
      certificate  changed for saltmarsh.test, until $DATE
      configuration  changed $ROOT/tides/fullchain.pem
      configuration  changed $ROOT/pier.pem
      server  Apache httpd: configuration tested, reloaded
    [status 0]
    ");
    eventually("the new one is served", || serial() != before && served().contains("saltmarsh.test"));
    machine.yandro(&["check"]).succeeds();
    let wide = ["map", "tides.test", "./saltmarsh", "--cert-wildcard", "on"];
    let told = "the server only answers for names that you map";
    assert!(machine.yandro(&wide).succeeds().stderr.contains(told) && !machine.yandro(&wide).stderr.contains(told));
}
