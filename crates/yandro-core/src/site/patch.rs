//! Changes of a site's options by `yandro map`, and the server's limits on them.

use camino::Utf8PathBuf;

use super::options::{Draft, Group, OPTIONS, SiteOption, ValueForm};
use super::{Caching, Content, FastCgi, ServerId, ServerKind, Serving, Site, UpstreamHost};
use crate::config::Published;

/// The options of serving that the built-in server has.
const BUILT_IN: [&str; 10] =
    ["upstream-host", "tenants", "symlinks", "redirect-alias", "listing", "index", "fallback", "php", "env", "caching"];

/// The options that are set or cleared; the others stay as they are.
#[derive(Clone, Debug, Default)]
pub struct SitePatch {
    /// Each with its new values; none clears it.
    changes: Vec<(&'static SiteOption, Vec<String>)>,
}

/// Facts about the server of a site.
#[derive(Clone, Debug)]
pub struct ServerFacts {
    /// Which one the facts are of.
    pub server: ServerId,
    /// Its kind, if yandro configures it.
    pub kind: Option<ServerKind>,
    /// Whether it is on this computer.
    pub is_here: bool,
    /// Under which ports it is reached.
    pub published: Published,
    /// Address of PHP on this computer, if it was found.
    pub php: Option<FastCgi>,
    /// The version of the php-fpm on this computer that takes pools of sites.
    pub php_version: Option<String>,
    /// The user's settings, for hints.
    pub settings: Utf8PathBuf,
}

/// Why a site can't be so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteRefusal {
    /// The fault, with the value.
    pub message: String,
    /// What helps.
    pub hints: Vec<String>,
    /// Whether the arguments are at fault, and not the machine.
    pub is_usage: bool,
}

impl SiteRefusal {
    fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), hints: Vec::new(), is_usage: true }
    }

    fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }
}

impl SitePatch {
    /// Changes an option. The values are those of an argument of `yandro map`: its own word for none clears it.
    pub fn change(&mut self, option: &'static SiteOption, values: Vec<String>) {
        let clear = option.argument.and_then(|argument| argument.clear);
        let is_cleared = values.len() == 1 && clear == Some(values[0].as_str());
        self.changes.push((option, if is_cleared { Vec::new() } else { values }));
    }

    /// The values that an option is to have; `None` if it stays, nothing if it is cleared.
    fn values(&self, key: &str) -> Option<&[String]> {
        self.changes.iter().find(|(option, _)| option.key == key).map(|(_, values)| &values[..])
    }

    fn is_set(&self, key: &str) -> bool {
        self.values(key).is_some()
    }

    fn is_on(&self, key: &str) -> Option<bool> {
        self.values(key).map(|values| values.last().is_some_and(|value| value == "on"))
    }

    /// The arguments of a group that are given, in the order of the table.
    fn given(&self, group: Group) -> impl Iterator<Item = &'static str> {
        let of_group = move |option: &&SiteOption| option.argument.is_some_and(|argument| argument.group == group);
        let given = OPTIONS.iter().filter(of_group).filter(|option| self.is_set(option.key));
        given.filter_map(|option| option.argument).map(|argument| argument.name)
    }

    /// The site with these changes. `site` has its name, content, server and address already; `before` is what it was,
    /// if it was there.
    ///
    /// # Errors
    /// A [`SiteRefusal`] for a value that is none, and for what the server can't do.
    pub fn apply(&self, site: &Site, before: Option<&Site>, facts: &ServerFacts) -> Result<Site, SiteRefusal> {
        let mut draft = Draft::of(site);
        let is_moved = before.is_some_and(|before| before.server != Some(facts.server));
        if is_moved {
            draft.rest.serving = kept(&draft.rest.serving, facts.server);
        }
        self.refused(facts, &site.content)?;
        let only_here = self.only_here(site, before, facts)?;
        if self.is_set("php") {
            draft.rest.serving.php_as_owner = None;
        }
        for (option, values) in &self.changes {
            let found = match option.key {
                "php-as-owner" => facts.php_version.clone(),
                _ => facts.php.as_ref().map(ToString::to_string),
            };
            let words: Vec<&str> = match &values[..] {
                [none] if none.is_empty() && option.argument.is_some_and(|argument| argument.may_be_found) => {
                    let found = found.as_deref().ok_or_else(|| nothing_found(facts))?;
                    vec![found]
                }
                values => values.iter().map(String::as_str).collect(),
            };
            (option.read)(&mut draft, &words).map_err(|invalid| SiteRefusal::new(invalid.to_string()))?;
        }
        let is_own = draft.rest.serving.php_as_owner.is_some();
        let was_own = before.is_some_and(|before| before.serving.php_as_owner.is_some());
        // The built-in server's PHP is of no use to others, nor theirs to it.
        let is_php_moved = is_moved
            && draft.rest.serving.php.is_some()
            && [before.and_then(|before| before.server), Some(facts.server)].contains(&Some(ServerId::BuiltIn));
        let serving = &mut draft.rest.serving;
        if (was_own || is_php_moved) && !is_own && !self.is_set("php") {
            // Its socket goes with its pool.
            serving.php = Some(facts.php.clone().ok_or_else(|| nothing_found(facts))?);
        }
        serving.only_here = only_here;
        if matches!(site.content, Content::Upstream(_)) {
            (serving.php, serving.php_as_owner) = (None, None);
            serving.fallback = None;
            serving.index.clear();
        } else {
            serving.upstream_host = UpstreamHost::default();
        }
        let site = draft.finish().map_err(|misfit| SiteRefusal::new(misfit.message))?;
        is_published(&site, facts)?;
        is_another(&site, facts)?;
        Ok(site)
    }

    /// Refuses what the server can't do.
    fn refused(&self, facts: &ServerFacts, content: &Content) -> Result<(), SiteRefusal> {
        let server = facts.server;
        // A server on another machine may listen on other ports, unless it is the upstream itself.
        let is_own_tls = matches!(content, Content::Upstream(upstream) if upstream.is_secure());
        let has_ports = server == ServerId::Elsewhere && !is_own_tls;
        let is_refused = |option: &&str| match server {
            ServerId::BuiltIn => !BUILT_IN.contains(option),
            _ => **option != *"tenants" && !(has_ports && ["http-port", "https-port"].contains(option)),
        };
        if !server.is_configured()
            && let Some(option) = self.given(Group::Serving).find(is_refused)
        {
            let refusal = SiteRefusal::new(format!("{server} has no `--{option}`"));
            return Err(match (server, option) {
                (ServerId::BuiltIn, "http-port" | "https-port") => {
                    refusal.hint(format!("set its ports under [built-in] in {}", facts.settings))
                }
                (ServerId::Elsewhere, _) => refusal.hint("set it up there"),
                _ => refusal.hint(format!(
                    "leave `--{option}` out, or map the site on Apache httpd or nginx: --server apache, --server nginx"
                )),
            });
        }
        if server != ServerId::BuiltIn && self.is_set("caching") {
            let message = format!("only the built-in server has `--caching`, and the site is on {server}");
            return Err(SiteRefusal::new(message)
                .hint("leave it out; headers of your own go into a file: --extra FILE")
                .hint("or map the site on the built-in server: --server built-in"));
        }
        if let Some(kind) = facts.kind
            && self.is_set("overrides")
            && kind.software().override_file().is_none()
        {
            return Err(SiteRefusal::new(format!("{kind} has no override files: leave `--overrides` out")));
        }
        let is_upstream = matches!(content, Content::Upstream(_));
        if is_upstream && ["php", "php-as-owner", "index", "fallback"].iter().any(|key| self.is_set(key)) {
            let message = "an upstream has no files: leave `--php`, `--php-as-owner`, `--index` and `--fallback` out";
            return Err(SiteRefusal::new(message));
        }
        if self.is_set("upstream-host") && (!is_upstream || is_own_tls) {
            let message = "nothing of this site is passed on to an upstream: leave `--upstream-host` out";
            return Err(SiteRefusal::new(message));
        }
        if self.is_on("by-address") == Some(true) && !facts.published.0.is_empty() {
            let message = format!("the address that `{}` has for itself can't be seen from here", server.word());
            return Err(SiteRefusal::new(message).hint("leave `--by-address` out"));
        }
        Ok(())
    }

    /// Whether the site answers this computer only: a new one does, where all who are to reach it are here.
    fn only_here(&self, site: &Site, before: Option<&Site>, facts: &ServerFacts) -> Result<bool, SiteRefusal> {
        // Requests to a remote or containerised server come from outside it.
        let is_here = facts.server.is_configured() && facts.is_here;
        let choice = self.is_on("only-here");
        if choice == Some(true) && !is_here {
            let server = facts.server.word();
            let message = format!("`{server}` is not on this computer, so every request comes from outside");
            return Err(SiteRefusal::new(message).hint("leave `--only-here` out"));
        }
        let may_be = is_here && site.address.is_loopback();
        let is_same = |before: &Site| before.address == site.address && before.server == Some(facts.server);
        Ok(match (choice, before) {
            (Some(choice), _) => choice,
            (None, None) => may_be,
            // With another address or server it goes by that.
            (None, Some(before)) => before.serving.only_here && (may_be || is_same(before)),
        })
    }
}

/// The options that a site keeps on another server: a server that yandro doesn't configure has no options, the built-in one its
/// own, and only that one says what browsers may do with copies.
fn kept(serving: &Serving, server: ServerId) -> Serving {
    match server {
        ServerId::BuiltIn => Serving {
            redirect_aliases: serving.redirect_aliases.clone(),
            listing: serving.listing,
            symlinks: serving.symlinks,
            upstream_host: serving.upstream_host,
            index: serving.index.clone(),
            fallback: serving.fallback.clone(),
            php: serving.php.clone(),
            variables: serving.variables.clone(),
            ..Serving::default()
        },
        _ if !server.is_configured() => Serving::default(),
        _ => Serving { caching: Caching::default(), ..serving.clone() },
    }
}

/// PHP is to be found, and isn't.
fn nothing_found(facts: &ServerFacts) -> SiteRefusal {
    if !facts.is_here {
        return SiteRefusal::new(format!("where PHP is on `{}` can't be seen from here", facts.server.word()))
            .hint("name its socket or address as the server sees it: --php=SOCKET, --php=HOST:PORT");
    }
    let none = SiteRefusal::new("PHP was not found: php-fpm has no socket in the usual folders")
        .hint("install and start it (`apt install php-fpm`), or name its socket: --php=SOCKET");
    SiteRefusal { is_usage: false, ..none }
}

/// Refuses an upstream that is the site's own server: a request would come back to it without end.
fn is_another(site: &Site, facts: &ServerFacts) -> Result<(), SiteRefusal> {
    let Content::Upstream(upstream) = &site.content else { return Ok(()) };
    let port = upstream.host_port().port();
    let is_own_port = site.http_ports(80).contains(&port) || site.https_ports(443).contains(&port);
    let is_own = facts.is_here && facts.kind.is_some() && upstream.host_port().is_loopback() && is_own_port;
    if !is_own || site.serving.upstream_host == UpstreamHost::Own {
        return Ok(());
    }
    let server = facts.server;
    Err(SiteRefusal::new(format!(
        "{upstream} is {server} itself: it would forward requests for `{}` to itself",
        site.name
    ))
    .hint(format!("give the port of the application: yandro map {} :PORT", site.name))
    .hint("or, for another virtual host of that server, send its own name: --upstream-host own"))
}

/// Refuses ports that nobody reaches.
fn is_published(site: &Site, facts: &ServerFacts) -> Result<(), SiteRefusal> {
    let mut ports = site.http_ports(80).into_iter().chain(site.https_ports(443));
    let Some(port) = ports.find(|port| facts.published.here(*port).is_none()) else { return Ok(()) };
    let server = facts.server.word();
    Err(SiteRefusal::new(format!("`{server}` has not published its port {port}: the site would be out of reach"))
        .hint(format!(
            "publish it, and say under which port of this machine: yandro servers add {server} --port HERE:{port}"
        ))
        .hint("or choose other ports: --http-port, --https-port"))
}

impl SiteOption {
    /// The words that its argument may have; none for one that takes any text.
    pub fn words(&self) -> &'static [(&'static str, &'static str)] {
        match self.form {
            ValueForm::Flag => &[("on", "Yes"), ("off", "No")],
            ValueForm::Word(words) => words,
            _ => &[],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::options::option;
    use super::super::{DEFAULT_ADDRESS, Listing, Logs, Upstream};
    use super::*;
    use crate::config::PublishedPort;
    use crate::name::HostName;

    fn site(content: Content) -> Site {
        let name = HostName::parse("saltmarsh.test").unwrap();
        Site { server: Some(ServerId::APACHE), address: DEFAULT_ADDRESS, ..Site::new(name, content) }
    }

    fn facts(server: ServerId) -> ServerFacts {
        let kind = match server {
            ServerId::Found(kind) => Some(kind),
            _ => None,
        };
        let (published, settings) = (Published::default(), "/home/ada/settings.toml".into());
        ServerFacts { server, kind, is_here: true, published, php: None, php_version: None, settings }
    }

    /// `key=value,value` for each option.
    fn patch(options: &[&str]) -> SitePatch {
        let mut patch = SitePatch::default();
        for text in options {
            let (key, values) = text.split_once('=').unwrap();
            patch.change(option(key).unwrap(), values.split(',').map(str::to_owned).collect());
        }
        patch
    }

    #[test]
    fn given_options_are_set_or_cleared_and_others_stay() {
        let folder = || site(Content::folder("/srv/saltmarsh"));
        let apply = |options: &[&str], site: &Site| {
            let mut facts = facts(ServerId::APACHE);
            facts.php = Some(FastCgi::parse("127.0.0.1:9000").unwrap());
            patch(options).apply(site, Some(site), &facts).unwrap()
        };
        let first = apply(
            &["http-ports=8080,8081", "listing=off", "fallback=index.php", "logs=off", "php=", "by-address=on"],
            &folder(),
        );
        let serving = &first.serving;
        assert_eq!(
            (&serving.http_ports[..], serving.listing, &serving.logs),
            (&[8080, 8081][..], Listing::Off, &Logs::Off)
        );
        assert_eq!((serving.fallback.as_deref(), serving.by_address), (Some("/index.php"), true));
        assert_eq!(serving.php, Some(FastCgi::parse("127.0.0.1:9000").unwrap()), "it was found");
        assert_eq!(apply(&[], &first), first);
        let second = apply(&["http-ports=80", "fallback=off", "logs=usual", "php=off", "by-address=off"], &first);
        let serving = Serving { listing: Listing::Off, ..Serving::default() };
        assert_eq!(second, Site { serving, ..folder() });
    }

    #[test]
    fn options_that_a_server_lacks_are_refused_with_the_reason() {
        let folder = site(Content::folder("/srv/saltmarsh"));
        let upstream = site(Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap()));
        let itself = site(Content::Upstream(Upstream::parse("http://127.0.0.1:443").unwrap()));
        let away = ServerFacts { is_here: false, ..facts(ServerId::NGINX) };
        let published =
            ServerFacts { published: Published(vec![PublishedPort::parse("8443:443").unwrap()]), ..away.clone() };
        let cases: [(&[&str], &Site, &ServerFacts, &str); 11] = [
            (&["http-ports=8080"], &folder, &facts(ServerId::BuiltIn), "the built-in server has no `--http-port`"),
            (&["listing=on"], &folder, &facts(ServerId::Elsewhere), "the server there has no `--listing`"),
            (&["overrides=all"], &folder, &facts(ServerId::NGINX), "nginx has no override files"),
            (&["index=a.html"], &upstream, &facts(ServerId::APACHE), "an upstream has no files"),
            (&["upstream-host=own"], &folder, &facts(ServerId::APACHE), "nothing of this site is passed on"),
            (&["only-here=on"], &folder, &away, "`nginx` is not on this computer"),
            (&["php="], &folder, &away, "where PHP is on `nginx` can't be seen"),
            (&["php="], &folder, &facts(ServerId::NGINX), "PHP was not found"),
            (&[], &itself, &facts(ServerId::NGINX), "http://127.0.0.1:443 is nginx itself"),
            (&["by-address=on"], &folder, &published, "the address that `nginx` has for itself"),
            (&[], &folder, &published, "`nginx` has not published its port 80"),
        ];
        for (options, site, facts, words) in cases {
            let refusal = patch(options).apply(site, Some(site), facts).unwrap_err();
            assert!(refusal.message.starts_with(words), "{options:?}: {}", refusal.message);
        }
        for (options, words) in [
            ("http-ports=80,80", "port 80 is given twice"),
            ("index=a/b", "`a/b` is not a file name"),
            ("certificate-days=0", "a certificate lasts from one day"),
            ("certificate-addresses=here", "`here` is no IP address"),
        ] {
            let refusal = patch(&[options]).apply(&folder, None, &facts(ServerId::APACHE)).unwrap_err();
            assert!(refusal.message.starts_with(words), "{}", refusal.message);
        }
    }

    #[test]
    fn a_new_site_answers_this_computer_only_where_all_who_are_to_reach_it_are_here() {
        let folder = site(Content::folder("/srv/saltmarsh"));
        let network = Site { address: [192, 168, 0, 9].into(), ..folder.clone() };
        let only_here = |site: &Site, before: Option<&Site>, facts: &ServerFacts| {
            SitePatch::default().apply(site, before, facts).unwrap().serving.only_here
        };
        let here = facts(ServerId::APACHE);
        assert!(only_here(&folder, None, &here) && !only_here(&network, None, &here));
        assert!(!only_here(&folder, None, &ServerFacts { is_here: false, ..here.clone() }));
        assert!(!only_here(&folder, Some(&folder), &here), "a site from before stays as it is");
        let mut closed = folder.clone();
        closed.serving.only_here = true;
        assert!(only_here(&folder, Some(&closed), &here) && !only_here(&network, Some(&closed), &here));
    }
}
