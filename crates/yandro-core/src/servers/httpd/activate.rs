//! Bringing a configuration to load, to listen and to include what sites need.
//!
//! Single lines of the shared files are switched on or added, each only if it does something;
//! a journal of them makes it possible to take every one of them back.

use core::net::IpAddr;

use crate::server_path::ServerPath;

use super::shared::HttpdShared;
use super::switching::{Activation, Lack, Work, unreached};
use crate::site::Scheme;

/// Requirements of a site in shared files.
#[derive(Clone, Debug)]
pub struct Needs<'n> {
    /// Modules, by identifier without `_module`.
    pub modules: &'n [&'static str],
    /// Ports to listen on, with whether they speak TLS.
    pub ports: &'n [(u16, Scheme)],
    /// The address that has to be listened on.
    pub address: IpAddr,
    /// The files of all sites, with a wildcard, as the server sees them.
    pub sites: &'n ServerPath,
}

impl HttpdShared {
    /// Whether all that a site needs is there.
    pub fn meets(&self, needs: &Needs<'_>) -> bool {
        needs.modules.iter().all(|module| self.has_module(module))
            && needs.ports.iter().all(|(port, _)| self.listens_on(needs.address, *port))
            && self.includes(needs.sites)
    }

    /// Plans what brings the needs about.
    ///
    /// # Errors
    /// A [`Lack`] when a module is not to be had, or a line would be of no effect.
    pub fn activate(&self, needs: &Needs<'_>) -> Result<Activation, Lack> {
        if self.meets(needs) {
            return Ok(Activation::default());
        }
        if let Some(fault) = &self.configuration.fault {
            return Err(Lack::Broken(Box::new(fault.clone())));
        }
        let mut work = Work { shared: self.clone(), done: Activation::default() };
        for module in needs.modules {
            work.load(module)?;
        }
        // A line that waited for a module may need another one.
        if work.needs_shared_cache() {
            work.load("socache_shmcb")?;
        }
        work.include(needs.sites)?;
        for (port, scheme) in needs.ports {
            work.listen(needs.address, *port, *scheme)?;
        }
        // The last change may have undone an earlier one.
        match &work.shared.configuration.fault {
            Some(fault) => Err(Lack::Broken(Box::new(fault.clone()))),
            None if !work.shared.meets(needs) => Err(unreached(needs.sites.as_str(), self.main())),
            None => Ok(work.done),
        }
    }
}

#[cfg(test)]
mod tests {
    use core::net::Ipv4Addr;

    use proptest::prelude::*;

    use super::*;
    use crate::config::{FileOwner, Journal};
    use crate::servers::ServerReport;
    use crate::servers::httpd::run::{Files, Start};

    const MAIN: &str = "/srv/conf/httpd.conf";
    const HOSTS: &str = "/srv/conf/extra/httpd-vhosts.conf";

    struct Two<'t>(&'t str, &'t str);

    impl Files for Two<'_> {
        fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
            let text = if path == MAIN { Some(self.0) } else { (path == HOSTS).then_some(self.1) };
            text.map(|text| text.as_bytes().to_vec())
        }

        fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
            (folder == "/srv/conf/extra").then(|| vec!["httpd-vhosts.conf".to_owned()])
        }
    }

    fn owner_of(path: &ServerPath) -> FileOwner {
        if path.as_str().contains("yandro-") { FileOwner::DefaultHost } else { FileOwner::Other }
    }

    fn shared(main: &str, hosts: &str) -> HttpdShared {
        let report =
            ServerReport { version: [2, 4, 62], root: "/srv".into(), main: MAIN.into(), ..ServerReport::default() };
        let start = Start { main: MAIN.into(), report, ..Start::default() };
        HttpdShared::of(start, &Two(main, hosts), owner_of)
    }

    /// Lines of a main file as people have them.
    fn line() -> impl Strategy<Value = String> {
        prop_oneof![
            1 => r"[ \t]{0,2}#{1,2}[ \t]{0,2}LoadModule ssl_module modules/mod_ssl\.so ?",
            1 => r"[ \t]{0,2}#{1,2}[ \t]{0,2}LoadModule rewrite_module modules/mod_rewrite\.so",
            1 => Just("LoadModule rewrite_module modules/mod_rewrite.so".to_owned()),
            2 => r"# ?Listen (80|443|127\.0\.0\.1:80|10\.0\.0\.1:443)",
            1 => r"Listen (80|443|10\.0\.0\.1:443)",
            2 => r"# ?Include(Optional)? conf/extra/(httpd-vhosts|\*|yandro-\*|none)\.conf",
            1 => r"IncludeOptional conf/extra/(httpd-vhosts|none)\.conf",
            1 => Just("<IfModule ssl_module>\nListen 443\n</IfModule>".to_owned()),
            1 => Just("<IfModule !ssl_module>\n#Listen 443\n</IfModule>".to_owned()),
            1 => Just("<VirtualHost *:80>\nServerName dummy-host.example.com\n</VirtualHost>".to_owned()),
            1 => Just("LogLevel \\\n warn".to_owned()),
            1 => Just("# a note \\\n#LoadModule ssl_module modules/mod_ssl.so".to_owned()),
            2 => r"#[ #a-zA-Z${}é]{0,12}",
            1 => Just(String::new()),
        ]
    }

    fn text(needed: &'static [&'static str]) -> impl Strategy<Value = String> {
        let eol = prop_oneof![Just("\n"), Just("\r\n")];
        let needed = Just(needed.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>()).prop_shuffle();
        (proptest::collection::vec(line(), 0..8), needed, any::<prop::sample::Index>(), eol, any::<bool>()).prop_map(
            |(mut lines, needed, at, eol, ends)| {
                let at = at.index(lines.len() + 1);
                lines.splice(at..at, needed);
                lines.join("\n").replace('\n', eol) + if ends { eol } else { "" }
            },
        )
    }

    const NEEDED: &[&str] =
        &["#LoadModule ssl_module modules/mod_ssl.so", "#LoadModule rewrite_module modules/mod_rewrite.so"];

    proptest! {
        #![proptest_config(crate::tests::cases(1500))]
        #[test]
        fn activated_lines_work_and_are_removed_to_the_byte(main in text(NEEDED), hosts in text(&[])) {
            let shared = shared(&main, &hosts);
            let needs = Needs {
                modules: &["ssl", "rewrite"],
                ports: &[(80, Scheme::Http), (443, Scheme::Https), (8443, Scheme::Https)],
                address: Ipv4Addr::LOCALHOST.into(),
                sites: &"/srv/conf/extra/yandro-*.conf".into(),
            };
            let Ok(done) = shared.activate(&needs) else { return Ok(()) };
            let after = shared.with(Vec::new(), &done.files, owner_of);
            prop_assert!(after.meets(&needs), "{:?}", done.files);
            prop_assert!(after.activate(&needs).unwrap().files.is_empty());
            let journal = Journal::read(done.journal.comment().as_bytes());
            prop_assert_eq!(&journal, &done.journal);
            for (file, text) in &done.files {
                let before = if file == MAIN { &main } else { &hosts };
                prop_assert_eq!(String::from_utf8(journal.taken_back(file, text)).unwrap(), before.clone());
            }
        }
    }

    #[test]
    fn impossible_requests_get_a_clear_error() {
        let sites = ServerPath::new("/srv/conf/extra/yandro-*.conf");
        let needs = |modules: &'static [&'static str]| Needs {
            modules,
            ports: &[],
            address: Ipv4Addr::LOCALHOST.into(),
            sites: &sites,
        };
        let lack = |main: &str| shared(main, "").activate(&needs(&["ssl"])).unwrap_err();
        assert_eq!(lack("Listen 80\n"), Lack::Module("ssl".into()));
        assert!(matches!(lack("<Directory /srv>\n"), Lack::Broken(_)));
        let never = "<IfModule none>\n#LoadModule ssl_module modules/mod_ssl.so\n</IfModule>\n";
        assert_eq!(lack(never), Lack::Unreached { what: "ssl_module".into(), file: MAIN.into() });
    }
}
