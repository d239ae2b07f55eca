//! Variables for dev servers that speak TLS themselves.

use camino::Utf8Path;

use crate::name::HostName;

/// Paths of a site's certificate files in PEM.
#[derive(Clone, Copy, Debug)]
pub struct CertificateFiles<'f> {
    /// The site's name.
    pub name: &'f HostName,
    /// The certificate with its chain.
    pub chain: &'f Utf8Path,
    /// Path of the private key, in PEM.
    pub key: &'f Utf8Path,
    /// The authority's root certificate.
    pub root: &'f Utf8Path,
}

/// Variables for one kind of reader: what it is, then names and values.
pub type Variables = (&'static str, Vec<(&'static str, String)>);

impl CertificateFiles<'_> {
    /// Every variable, by its reader. Those of other programs are as their documentation names them.
    pub fn variables(&self) -> Vec<Variables> {
        let (host, chain, key) = (self.name.to_string(), self.chain.to_string(), self.key.to_string());
        let all = [
            (
                "For your own code: the host name, the certificate with its chain and the key, in PEM",
                vec![("YANDRO_HOST", &host), ("YANDRO_CERTIFICATE", &chain), ("YANDRO_KEY", &key)],
            ),
            ("Node: react-scripts", vec![("HOST", &host), ("SSL_CRT_FILE", &chain), ("SSL_KEY_FILE", &key)]),
            (
                "Python: uvicorn",
                vec![("UVICORN_HOST", &host), ("UVICORN_SSL_CERTFILE", &chain), ("UVICORN_SSL_KEYFILE", &key)],
            ),
            ("Python: Flask", vec![("FLASK_RUN_HOST", &host), ("FLASK_RUN_CERT", &chain), ("FLASK_RUN_KEY", &key)]),
            (
                ".NET: Kestrel",
                vec![
                    ("ASPNETCORE_Kestrel__Certificates__Default__Path", &chain),
                    ("ASPNETCORE_Kestrel__Certificates__Default__KeyPath", &key),
                ],
            ),
            ("Java: Spring Boot", vec![("SERVER_SSL_CERTIFICATE", &chain), ("SERVER_SSL_CERTIFICATEPRIVATEKEY", &key)]),
        ];
        let mut all: Vec<Variables> = all
            .into_iter()
            .map(|(reader, values)| (reader, values.into_iter().map(|(name, value)| (name, value.clone())).collect()))
            .collect();
        all[1].1.insert(0, ("HTTPS", "true".into()));
        all.push((
            "Node programs that call the site trust it by this",
            vec![("NODE_EXTRA_CA_CERTS", self.root.to_string())],
        ));
        all
    }
}
