//! Places of nginx's files: a table of the differences between distributions and bundles.
//!
//! Debian's layout has been run as its makers ship it; the others are trees of files.

use crate::config::{KnownLayout, KnownLinks, PLAIN};

/// Folders next to a main file for sites' files, if the layout isn't known.
pub(crate) const USUAL_FOLDERS: &[&str] = &["conf.d", "servers"];

/// Every layout, in the order in which they are looked for.
pub(crate) const KNOWN: &[KnownLayout] = &[
    KnownLayout {
        title: "Debian",
        main: "/etc/nginx/nginx.conf",
        sign: "/etc/nginx/sites-available",
        sites: "/etc/nginx/sites-available",
        links: Some(KnownLinks { sites: "/etc/nginx/sites-enabled", modules: "", enabled_modules: "" }),
        root: "/usr/share/nginx",
        programs: &["/usr/sbin/nginx"],
        logs: Some("/var/log/nginx"),
        service: "nginx.service",
        ..PLAIN
    },
    KnownLayout {
        title: "conf.d",
        main: "/etc/nginx/nginx.conf",
        sign: "/etc/nginx/conf.d",
        sites: "/etc/nginx/conf.d",
        root: "/etc/nginx",
        programs: &["/usr/sbin/nginx", "/usr/bin/nginx"],
        logs: Some("/var/log/nginx"),
        service: "nginx.service",
        ..PLAIN
    },
    KnownLayout {
        title: "one file",
        main: "/etc/nginx/nginx.conf",
        sign: "/etc/nginx",
        sites: "/etc/nginx",
        root: "/etc/nginx",
        programs: &["/usr/sbin/nginx", "/usr/bin/nginx"],
        logs: Some("/var/log/nginx"),
        service: "nginx.service",
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/opt/homebrew/etc/nginx/nginx.conf",
        sign: "/opt/homebrew/etc/nginx/servers",
        sites: "/opt/homebrew/etc/nginx/servers",
        root: "/opt/homebrew/var/www",
        programs: &["/opt/homebrew/bin/nginx"],
        logs: Some("/opt/homebrew/var/log/nginx"),
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/usr/local/etc/nginx/nginx.conf",
        sign: "/usr/local/etc/nginx/servers",
        sites: "/usr/local/etc/nginx/servers",
        root: "/usr/local/var/www",
        programs: &["/usr/local/bin/nginx"],
        logs: Some("/usr/local/var/log/nginx"),
        ..PLAIN
    },
    KnownLayout {
        title: "FreeBSD",
        main: "/usr/local/etc/nginx/nginx.conf",
        sign: "/usr/local/etc/nginx",
        sites: "/usr/local/etc/nginx",
        root: "/usr/local/www/nginx",
        programs: &["/usr/local/sbin/nginx"],
        logs: Some("/var/log/nginx"),
        ..PLAIN
    },
    KnownLayout {
        title: "upstream",
        main: "/usr/local/nginx/conf/nginx.conf",
        sign: "/usr/local/nginx/conf",
        sites: "/usr/local/nginx/conf",
        root: "/usr/local/nginx",
        programs: &["/usr/local/nginx/sbin/nginx"],
        logs: Some("/usr/local/nginx/logs"),
        ..PLAIN
    },
    KnownLayout {
        title: "Windows",
        main: "/nginx/conf/nginx.conf",
        sign: "/nginx/conf",
        sites: "/nginx/conf",
        root: "/nginx",
        programs: &["/nginx/nginx.exe"],
        logs: Some("logs"),
        ..PLAIN
    },
];
