//! Places of Apache httpd's files: a table of the differences between distributions and bundles.
//!
//! Only Debian's layout has ever been run as its makers ship it. The others are run in tests by
//! the same server on trees of files, or, for macOS and Windows, are only trees of files.

use crate::config::{KnownLayout, KnownLinks, PLAIN};

/// Folders next to a main file for sites' files, if the layout isn't known.
pub(crate) const USUAL_FOLDERS: &[&str] = &["extra"];

/// Every layout, in the order in which they are looked for.
pub(crate) const KNOWN: &[KnownLayout] = &[
    KnownLayout {
        title: "Debian",
        main: "/etc/apache2/apache2.conf",
        sign: "/etc/apache2/mods-available",
        sites: "/etc/apache2/sites-available",
        links: Some(KnownLinks {
            sites: "/etc/apache2/sites-enabled",
            modules: "/etc/apache2/mods-available",
            enabled_modules: "/etc/apache2/mods-enabled",
        }),
        root: "/etc/apache2",
        environment: Some("/etc/apache2/envvars"),
        programs: &["/usr/sbin/apache2"],
        logs: Some("${APACHE_LOG_DIR}"),
        built_in: &["mod_watchdog.c", "mod_log_config.c", "mod_logio.c", "mod_version.c", "mod_unixd.c"],
        pid_file: Some("/var/run/apache2/apache2.pid"),
        control: Some("/usr/sbin/apache2ctl"),
        service: "apache2.service",
        ..PLAIN
    },
    KnownLayout {
        title: "Red Hat",
        main: "/etc/httpd/conf/httpd.conf",
        sign: "/etc/httpd/conf.modules.d",
        sites: "/etc/httpd/conf.d",
        root: "/etc/httpd",
        programs: &["/usr/sbin/httpd"],
        service: "httpd.service",
        install_tls: Some("dnf install mod_ssl"),
        ..PLAIN
    },
    KnownLayout {
        title: "Arch",
        main: "/etc/httpd/conf/httpd.conf",
        sign: "/etc/httpd/conf/extra",
        sites: "/etc/httpd/conf/extra",
        root: "/etc/httpd",
        programs: &["/usr/bin/httpd", "/usr/sbin/httpd"],
        service: "httpd.service",
        ..PLAIN
    },
    KnownLayout {
        title: "SUSE",
        main: "/etc/apache2/httpd.conf",
        sign: "/etc/apache2/vhosts.d",
        sites: "/etc/apache2/vhosts.d",
        root: "/srv/www",
        programs: &["/usr/sbin/httpd", "/usr/sbin/httpd-prefork"],
        service: "apache2.service",
        ..PLAIN
    },
    KnownLayout {
        title: "Alpine",
        main: "/etc/apache2/httpd.conf",
        sign: "/etc/apache2/conf.d",
        sites: "/etc/apache2/conf.d",
        root: "/var/www",
        programs: &["/usr/sbin/httpd"],
        install_tls: Some("apk add apache2-ssl"),
        ..PLAIN
    },
    KnownLayout {
        title: "macOS",
        main: "/private/etc/apache2/httpd.conf",
        sign: "/private/etc/apache2/other",
        sites: "/private/etc/apache2/other",
        root: "/usr",
        programs: &["/usr/sbin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/opt/homebrew/etc/httpd/httpd.conf",
        sign: "/opt/homebrew/etc/httpd/extra",
        sites: "/opt/homebrew/etc/httpd/extra",
        root: "/opt/homebrew/opt/httpd",
        programs: &["/opt/homebrew/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/usr/local/etc/httpd/httpd.conf",
        sign: "/usr/local/etc/httpd/extra",
        sites: "/usr/local/etc/httpd/extra",
        root: "/usr/local/opt/httpd",
        programs: &["/usr/local/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "FreeBSD",
        main: "/usr/local/etc/apache24/httpd.conf",
        sign: "/usr/local/etc/apache24/Includes",
        sites: "/usr/local/etc/apache24/Includes",
        root: "/usr/local",
        programs: &["/usr/local/sbin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "upstream",
        main: "/usr/local/apache2/conf/httpd.conf",
        sign: "/usr/local/apache2/conf/extra",
        sites: "/usr/local/apache2/conf/extra",
        root: "/usr/local/apache2",
        programs: &["/usr/local/apache2/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Windows",
        main: "/Apache24/conf/httpd.conf",
        sign: "/Apache24/conf/extra",
        sites: "/Apache24/conf/extra",
        root: "/Apache24",
        programs: &["/Apache24/bin/httpd.exe"],
        ..PLAIN
    },
];

#[cfg(test)]
mod tests {
    use camino::{Utf8Path, Utf8PathBuf};

    use super::*;
    use crate::config::Layout;
    use crate::config::LayoutDisk;
    use crate::name::HostName;

    #[test]
    fn each_layout_is_recognised_by_its_files() {
        for known in KNOWN {
            // A tree with nothing but its main file and its sign.
            let exists = |path: &str| path == known.main || path == known.sign;
            let layout = Layout::find(KNOWN, exists, |path| Utf8PathBuf::from("/tree").join(&path[1..])).unwrap();
            assert_eq!(layout.known, known);
            let name = HostName::parse("saltmarsh.test").unwrap();
            let file = layout.site_file(&name);
            assert_eq!(layout.site_of_file(&file), Some(name.clone()));
            let read = layout.site_link(&name).map_or(file, |(link, _)| link);
            assert!(layout.is_own(&read) && !layout.is_own(&layout.read_folder().join("yandro.conf")));
        }
        assert!(Layout::find(KNOWN, |path| path == KNOWN[0].main, |path| path.into()).is_none(), "the sign is missing");
    }

    #[test]
    fn a_named_one_goes_by_its_main_file() {
        let is_folder = |path: &Utf8Path| path == "/opt/ferries/conf/extra";
        let named = |main: &str| {
            Layout::named(
                KNOWN,
                Utf8Path::new(main),
                USUAL_FOLDERS,
                &LayoutDisk { is_folder: &is_folder, exists: &|_| true, at: &|path| path.into() },
            )
        };
        assert_eq!(named("/opt/ferries/conf/httpd.conf").sites, "/opt/ferries/conf/extra");
        assert_eq!(named("/opt/tides/httpd.conf").pattern(), "/opt/tides/yandro-*.conf");
        assert_eq!(named("/usr/local/apache2/conf/httpd.conf").known.title, "upstream");
    }
}
