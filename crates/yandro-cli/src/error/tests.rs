//! Errors of plans, as the user reads them: message, exit status and fixes.

use std::fmt::Write as _;

use yandro_core::{Conflict, EditError, HostName, ListId, PkiError, Place, PlanError, ServerId, ServerName};

use super::CommandError;

fn name(text: &str) -> HostName {
    HostName::parse(text).unwrap()
}

fn conflict(fixed: Option<&'static str>) -> PlanError {
    let (address, wanted) = ("10.0.0.9".parse().unwrap(), "127.0.0.1".parse().unwrap());
    let text = "10.0.0.9 crew.test # by hand".to_owned();
    let conflict = Conflict { line: 2, text, name: name("crew.test"), address, wanted, fixed };
    PlanError::Hosts { path: "/etc/hosts".into(), error: EditError::Conflict(Box::new(conflict)) }
}

fn all() -> Vec<PlanError> {
    let place = || Place { file: "/etc/nginx/nginx.conf".into(), line: 7 };
    let list = || ListId::new("bob", "/home/bob/sites.toml".into());
    let module = |module: &str, install| PlanError::ModuleMissing { module: module.into(), install };
    vec![
        PlanError::HostsMissing("/etc/hosts".into()),
        conflict(None),
        conflict(Some("it names `localhost` as well")),
        PlanError::Hosts {
            path: "/etc/hosts".into(),
            error: EditError::OtherList { line: 3, name: name("crew.test"), list: list() },
        },
        PlanError::ReservedName(name("0.invalid")),
        PlanError::NameTaken { name: name("tides.test"), owner: name("saltmarsh.test") },
        PlanError::HttpsForced(name("tides.dev")),
        PlanError::Pki(PkiError::Locked),
        PlanError::Issued { path: "/srv/fullchain.pem".into(), error: PkiError::Nameless },
        PlanError::ServerMissing(ServerId::NGINX),
        PlanError::ServerMissing(ServerId::Named(ServerName::parse("ferries").unwrap())),
        module("ssl", Some("dnf install mod_ssl")),
        module("rewrite", None),
        module("authz_host", None),
        PlanError::Prefork { server: ServerId::APACHE, has_links: true },
        PlanError::Unreached { what: "Listen 443".into(), file: "/etc/ports.conf".into() },
        PlanError::OtherList { name: name("crew.test"), list: list(), path: "/etc/crew.conf".into() },
        PlanError::VirtualHostTaken { place: place(), name: name("crew.test") },
        PlanError::LinkTaken { path: "/etc/a".into(), target: "/etc/b".into() },
        PlanError::NameBucket { place: place(), size: 32, needed: 64 },
        PlanError::NotSeen { server: ServerId::NGINX, path: "/srv".into() },
    ]
}

#[test]
fn errors_of_plans_come_with_their_fix() {
    let mut text = String::new();
    for error in all() {
        let error = CommandError::from(error);
        _ = writeln!(text, "{} [{:?}, {}]", error.message, error.status, error.code);
        error.hints.iter().for_each(|hint| _ = writeln!(text, "  {hint}"));
    }
    insta::assert_snapshot!(text, @"
    the hosts file `/etc/hosts` is missing [NotMade, not-made]
      make it with the line `127.0.0.1 localhost` in it: /etc/hosts
    /etc/hosts:2: `crew.test` points to 10.0.0.9 here already, not to 127.0.0.1
      10.0.0.9 crew.test # by hand [NotMade, not-made]
      have that line commented out while the site is mapped: add `--take-over`; or map the site to where it points: `--address 10.0.0.9`
    /etc/hosts:2: `crew.test` points to 10.0.0.9 here already, not to 127.0.0.1; the line can't be taken over, since it names `localhost` as well
      10.0.0.9 crew.test # by hand [NotMade, not-made]
      take `crew.test` out of line 2 of /etc/hosts by hand, then try again
    /etc/hosts:3: `crew.test` belongs to the site list of user `bob` (/home/bob/sites.toml) [NotMade, not-made]
      choose another name, or have user `bob` take the site away: yandro unmap
    `0.invalid` can't be the name of a site: yandro's default virtual hosts for unknown host names have it [NotMade, not-made]
    `tides.test` already belongs to the site `saltmarsh.test` [Usage, bad-input]
      choose another name, or take that site away first: yandro unmap saltmarsh.test
    browsers ask for `tides.dev` only over HTTPS, whatever is typed: without HTTPS nobody would reach it [Usage, bad-input]
      leave `--plain` and `--https off` out, or choose a suffix such as `.test`
    the authority's key is behind a passphrase [Usage, bad-input]
    /srv/fullchain.pem: a certificate needs at least one name or address [Usage, bad-input]
    no nginx was found [NotMade, not-made]
      install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`), or use the built-in server: add `--server built-in`
    no ferries was found [NotMade, not-made]
      name it (yandro servers add ferries --config PATH), or map the site on another: --server WHICH
    Apache httpd has no module `ssl` to load: its configuration has no line for it that could be switched on, and among its modules there is no `mod_ssl.so` [NotMade, not-made]
      install it: dnf install mod_ssl
    Apache httpd has no module `rewrite` to load: its configuration has no line for it that could be switched on, and among its modules there is no `mod_rewrite.so` [NotMade, not-made]
      install the package that has `mod_rewrite.so`
    Apache httpd has no module `authz_host` to load: its configuration has no line for it that could be switched on, and among its modules there is no `mod_authz_host.so` [NotMade, not-made]
      install that module, or let the network open the site as well: --only-here off
    Apache httpd can't speak HTTP/2, since it runs one process for each connection (prefork) [NotMade, not-made]
      switch it to threads, if no module of PHP is loaded into it: sudo a2dismod mpm_prefork && sudo a2enmod mpm_event && sudo systemctl restart apache2
    `Listen 443` would have no effect in /etc/ports.conf: that part of it doesn't count [NotMade, not-made]
      put `Listen 443` where it counts, by hand: /etc/ports.conf; then run the command again
    `crew.test` belongs to the site list of user `bob` (/home/bob/sites.toml): /etc/crew.conf [NotMade, not-made]
      choose another name, or have user `bob` take the site away: yandro unmap
    /etc/nginx/nginx.conf:7: a virtual host that yandro did not write already answers to `crew.test` [NotMade, not-made]
      take that virtual host over, with its lines kept: yandro adopt crew.test
      or take its file out of use: /etc/nginx/nginx.conf
    /etc/a: points to `/etc/b`, not to the file that yandro writes [NotMade, not-made]
      move it out of the way: /etc/a
    /etc/nginx/nginx.conf:7: `server_names_hash_bucket_size 32` is too small for the site's longest name, which needs 64 [NotMade, not-made]
      make it `server_names_hash_bucket_size 64;` there, then run the command again: /etc/nginx/nginx.conf:7
    the server `nginx` doesn't see /srv: no path mapping contains it [NotMade, not-made]
      have the folder mounted there, and say where it is: yandro servers add nginx --path /srv=WHERE; of a container that you started again with it: yandro servers add nginx --container CONTAINER
    ");
}
