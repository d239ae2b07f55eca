//! The root certificate in the forms that others take, and the variables by which runtimes with a
//! separate list trust it. Only public data.

use camino::Utf8Path;
use rustls_pki_types::CertificateDer;

use super::dev_server::Variables;
use crate::shell::Shell;

/// In an image of Debian's family: the folder for further roots, and the list that is built from it.
const IN_IMAGE: (&str, &str) = ("/usr/local/share/ca-certificates/yandro.crt", "/etc/ssl/certs/ca-certificates.crt");

/// The variables by which runtimes trust the root. `list` is the system's own list as one file, if
/// the root is in it: what takes the place of a runtime's own list has to hold all the others, too.
pub fn trust_variables(root: &Utf8Path, list: Option<&Utf8Path>) -> Vec<Variables> {
    let mut all: Vec<Variables> = vec![
        ("Node, in addition to its own list", vec![("NODE_EXTRA_CA_CERTS", root.to_string())]),
        ("Deno, in addition to its own list", vec![("DENO_CERT", root.to_string())]),
    ];
    if let Some(list) = list {
        let list = || list.to_string();
        all.extend([
            (
                "Programs with OpenSSL, Python, Ruby, Go, and Rust with the system's list",
                vec![("SSL_CERT_FILE", list())],
            ),
            ("Python: requests, pip", vec![("REQUESTS_CA_BUNDLE", list()), ("PIP_CERT", list())]),
            ("curl and git with a separate list", vec![("CURL_CA_BUNDLE", list()), ("GIT_SSL_CAINFO", list())]),
        ]);
    }
    all
}

/// The lines that say so in the words of a shell. For an image the root has to be copied into it
/// first: as `root.pem`, next to the Dockerfile.
pub fn trust_lines(shell: Shell, root: &Utf8Path, list: Option<&Utf8Path>) -> Vec<String> {
    let mut lines = Vec::new();
    let all = if shell == Shell::Dockerfile {
        lines.push(shell.comment("An image of Debian's family; root.pem: yandro authority export --out root.pem"));
        lines.push(format!("COPY root.pem {}", IN_IMAGE.0));
        lines.push("RUN update-ca-certificates".to_owned());
        trust_variables(IN_IMAGE.0.into(), Some(IN_IMAGE.1.into()))
    } else {
        trust_variables(root, list)
    };
    for (reader, values) in all {
        lines.push(shell.comment(reader));
        lines.extend(values.iter().map(|(name, value)| shell.set(name, value)));
    }
    lines
}

/// Certificates as a bundle of PKCS#7: a `SignedData` without signatures (RFC 2315 section 9, which
/// calls that degenerate), in DER.
pub fn certificate_bundle(certificates: &[&CertificateDer<'_>]) -> Vec<u8> {
    /// 1.2.840.113549.1.7.1 and .2, with their tags: the content types `data` and `signedData`.
    const DATA: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x01";
    const SIGNED_DATA: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x02";
    const SEQUENCE: u8 = 0x30;
    const SET: u8 = 0x31;
    const FIELD_0: u8 = 0xa0;
    let all: Vec<u8> = certificates.iter().flat_map(|der| der.iter().copied()).collect();
    let version = b"\x02\x01\x01";
    let signed =
        [version, &element(SET, &[])[..], &element(SEQUENCE, DATA), &element(FIELD_0, &all), &element(SET, &[])];
    let content = element(FIELD_0, &element(SEQUENCE, &signed.concat()));
    element(SEQUENCE, &[SIGNED_DATA, &content].concat())
}

/// An element of DER (X.690 section 8.1): tag, length, content.
fn element(tag: u8, content: &[u8]) -> Vec<u8> {
    let length = content.len().to_be_bytes();
    let digits: Vec<u8> = length.iter().copied().skip_while(|byte| *byte == 0).collect();
    let mut out = vec![tag];
    match u8::try_from(content.len()) {
        Ok(short) if short < 0x80 => out.push(short),
        _ => {
            out.push(0x80 | u8::try_from(digits.len()).expect("a length has at most eight digits"));
            out.extend(digits);
        }
    }
    out.extend_from_slice(content);
    out
}

/// A configuration profile of Apple's systems that holds the root: an XML property list. `sha256`
/// is the certificate's, in hexadecimal digits; the profile's identifiers come of it.
pub fn mobile_profile(title: &str, root_pem: &str, sha256: &str) -> String {
    let body: Vec<&str> = root_pem.lines().filter(|line| !line.starts_with("-----")).collect();
    let uuid = |from: usize| {
        let digits = &sha256[from..from + 32];
        let parts = [&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]];
        parts.join("-").to_uppercase()
    };
    let escaped = title.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let string = |key: &str, value: &str| format!("\t<key>{key}</key>\n\t<string>{value}</string>\n");
    let head = |kind: &str, from: usize| {
        string("PayloadType", kind)
            + &string("PayloadIdentifier", &format!("test.yandro.{}", uuid(from).to_lowercase()))
            + &string("PayloadUUID", &uuid(from))
            + &string("PayloadDisplayName", &escaped)
            + "\t<key>PayloadVersion</key>\n\t<integer>1</integer>\n"
    };
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\">\n<dict>\n{}\t<key>PayloadContent</key>\n\t<array>\n\t<dict>\n{}\t<key>PayloadContent</key>\n\t<data>\n{}\n\t</data>\n\t</dict>\n\t</array>\n</dict>\n</plist>\n",
        head("Configuration", 0),
        head("com.apple.security.root", 32),
        body.join("\n"),
    )
}
