//! Every option of a site in one table: it feeds the site list (reading and writing), `yandro map`, the page on
//! `sites.toml` and `yandro sites --json`.
//!
//! To add an option: a field of [`Serving`](super::Serving), its row here, and its directives in each server's folder.

use camino::Utf8PathBuf;

use super::InvalidValue;
use super::reading::{absolute, address, each, host, last, ports, read_ports, relative, text, texts, written};
use super::serving::{checked_path, checked_version};
use super::variable::variables;
use super::{
    Caching, Content, DEFAULT_ADDRESS, FastCgi, Http2, Https, Listing, Logs, Overrides, ServerId, Site, Symlinks,
    Upstream, UpstreamHost, checked_days, checked_fallback, checked_index,
};
use crate::name::HostName;
use crate::pki::KeyKind;
use crate::tables::Value;

/// A site while its options are read: what answers is known once all are.
#[derive(Clone, Debug)]
pub(super) struct Draft {
    /// The home folder that replaces `~/`, where `~/` is allowed.
    pub(super) home: Option<Utf8PathBuf>,
    pub(super) site: Option<HostName>,
    /// All but the name and what answers.
    pub(super) rest: Site,
    pub(super) folder: Option<Utf8PathBuf>,
    pub(super) document_root: Option<Utf8PathBuf>,
    pub(super) upstream: Option<Upstream>,
}

/// Form of an option's value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValueForm {
    /// `true` or `false`; `on` or `off` as an argument.
    Flag,
    /// One of these words, each with its meaning.
    Word(&'static [(&'static str, &'static str)]),
    /// A text.
    Text,
    /// Several texts.
    Texts,
    /// A number.
    Number,
    /// Several ports.
    Ports,
}

/// An option's argument of `yandro map`.
#[derive(Clone, Copy, Debug)]
pub struct MapArgument {
    /// Its name, without the dashes.
    pub name: &'static str,
    /// Name of its value in the help.
    pub value: &'static str,
    /// One sentence for the option's help page.
    pub help: &'static str,
    /// The word for no value, or for the default.
    pub clear: Option<&'static str>,
    /// Whether the value may be left out: then it is looked for on this machine.
    pub may_be_found: bool,
    /// Whether the value is a path of this machine.
    pub is_path: bool,
    /// The part of the site that it belongs to.
    pub group: Group,
}

/// Parts of a site that have separate options.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Group {
    /// The certificate.
    Certificate,
    /// How a server serves it.
    Serving,
}

/// One option.
pub struct SiteOption {
    /// The key in the site list.
    pub key: &'static str,
    /// Its purpose, in a line: for the page on `sites.toml`.
    pub meaning: &'static str,
    /// The default.
    pub usual: &'static str,
    /// What values can be, in files and as arguments.
    pub form: ValueForm,
    /// The argument of `yandro map`; `None` for those that are handled separately.
    pub argument: Option<MapArgument>,
    /// Reads its values; none means the default.
    pub(super) read: fn(&mut Draft, &[&str]) -> Result<(), InvalidValue>,
    /// Its value; `None` where it is the usual.
    pub(super) write: fn(&Site) -> Option<Value>,
}

impl std::fmt::Debug for SiteOption {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SiteOption({})", self.key)
    }
}

impl SiteOption {
    /// Its value of a site, as the site list has it; `None` where it is the usual.
    pub fn value(&self, site: &Site) -> Option<Value> {
        (self.write)(site)
    }
}

pub(crate) fn option(key: &str) -> Option<&'static SiteOption> {
    OPTIONS.iter().find(|option| option.key == key)
}

type Read = Result<(), InvalidValue>;

/// A choice of a few words: how it is read and written.
macro_rules! choice {
    ($type:ty, $draft:ident => $place:expr, $site:ident => $value:expr) => {
        (
            |$draft: &mut Draft, values: &[&str]| -> Read {
                let of = |word: &str| <$type>::ALL.iter().copied().find(|choice| choice.word() == word);
                let unknown = |word: &str| {
                    let known = <$type>::ALL.iter().map(|choice| choice.word()).collect();
                    InvalidValue::Word { word: word.to_owned(), known }
                };
                $place = last(values, |word| of(word).ok_or_else(|| unknown(word)))?.unwrap_or_default();
                Ok(())
            },
            |$site: &Site| ($value != <$type>::default()).then(|| Value::Text($value.word().to_owned())),
        )
    };
}

/// A flag: how it is read and written.
macro_rules! flag {
    ($draft:ident => $place:expr, $site:ident => $value:expr) => {
        (
            |$draft: &mut Draft, values: &[&str]| -> Read {
                $place = matches!(values.last(), Some(&("true" | "on")));
                Ok(())
            },
            |$site: &Site| $value.then_some(Value::Flag(true)),
        )
    };
}

/// How values are read and written otherwise.
macro_rules! value {
    ($draft:ident, $values:ident => $place:expr, $read:expr, $site:ident => $value:expr) => {
        (
            |$draft: &mut Draft, $values: &[&str]| -> Read {
                $place = $read;
                Ok(())
            },
            |$site: &Site| $value,
        )
    };
}

/// One row for each option, in the order in which they are written.
macro_rules! options {
    ($($key:literal $form:expr, $meaning:literal, $usual:literal, $both:expr $(, $argument:expr)?;)*) => {
        /// Every option.
        pub static OPTIONS: &[SiteOption] = &[$(
            SiteOption {
                key: $key,
                meaning: $meaning,
                usual: $usual,
                form: $form,
                argument: argument!($($argument)?),
                read: $both.0,
                write: $both.1,
            },
        )*];
    };
}

macro_rules! argument {
    () => {
        None
    };
    ($argument:expr) => {
        Some($argument)
    };
}

const fn serving(name: &'static str, value: &'static str, help: &'static str) -> MapArgument {
    let (clear, group) = (None, Group::Serving);
    MapArgument { name, value, help, clear, may_be_found: false, is_path: false, group }
}

const fn certificate(name: &'static str, value: &'static str, help: &'static str) -> MapArgument {
    MapArgument { group: Group::Certificate, ..serving(name, value, help) }
}

const fn or(clear: &'static str, argument: MapArgument) -> MapArgument {
    MapArgument { clear: Some(clear), ..argument }
}

const fn path(argument: MapArgument) -> MapArgument {
    MapArgument { is_path: true, ..argument }
}

options! {
    "name" ValueForm::Text, "The site's name.", "needed",
        value!(draft, values => draft.site, last(values, host)?, site => Some(Value::Text(site.name.to_unicode())));
    "aliases" ValueForm::Texts, "Other names for the site.", "none",
        value!(draft, values => draft.rest.aliases, each(values, host)?,
            site => texts(site.aliases.iter().map(HostName::to_unicode).collect()));
    "folder" ValueForm::Text, "The project's folder, absolute. A site has this or `upstream`.", "none",
        value!(draft, values => draft.folder, draft.path(values, absolute)?, site => match &site.content {
            Content::Folder { folder, .. } => Some(written(folder)),
            Content::Upstream(_) => None,
        });
    "document-root" ValueForm::Text, "The subfolder to serve.", "all of it",
        value!(draft, values => draft.document_root, last(values, relative)?, site => match &site.content {
            Content::Folder { document_root, .. } => document_root.as_ref().map(text),
            Content::Upstream(_) => None,
        });
    "upstream" ValueForm::Text, "A running server that requests are forwarded to, as `http://HOST:PORT`, or `https://HOST:PORT` for one that speaks TLS itself.", "none",
        value!(draft, values => draft.upstream,
            last(values, Upstream::parse)?,
            site => match &site.content {
                Content::Folder { .. } => None,
                Content::Upstream(upstream) => Some(text(upstream)),
            });
    "server" ValueForm::Text, "The web server: `apache`, `nginx`, `built-in`, one that you added, or `elsewhere`.", "chosen at each run",
        value!(draft, values => draft.rest.server,
            last(values, ServerId::parse)?,
            site => site.server.map(|server| Value::Text(server.word().to_owned())));
    "https" ValueForm::Word(&[("only", "HTTPS; plain HTTP redirects there"), ("both", "both"), ("off", "plain HTTP only")]),
        "Protocols that the site answers on.", "only",
        choice!(Https, draft => draft.rest.https, site => site.https);
    "disabled" ValueForm::Flag, "Whether the site is out of use for now: `yandro disable`, `yandro enable`.", "false",
        flag!(draft => draft.rest.disabled, site => site.disabled);
    "certificate-wildcard" ValueForm::Flag, "Whether the certificate covers all names one level below.", "false",
        flag!(draft => draft.rest.certificate.wildcard, site => site.certificate.wildcard),
        certificate("cert-wildcard", "WHETHER", "Cover all names one level below too");
    "certificate-addresses" ValueForm::Texts, "IP addresses that the certificate covers too.", "none",
        value!(draft, values => draft.rest.certificate.addresses, each(values, address)?,
            site => texts(site.certificate.addresses.iter().map(ToString::to_string).collect())),
        or("off", certificate("cert-address", "IP", "IP address to cover too (repeatable, `off` for none)"));
    "certificate-days" ValueForm::Number, "Days of validity of the certificate.", "396",
        value!(draft, values => draft.rest.certificate.days, {
            let days = last(values, |text| text.parse().map_err(|_| InvalidValue::Days(text.to_owned())))?;
            let days = days.map(checked_days).transpose()?;
            days.filter(|days| i64::from(*days) != crate::pki::LEAF_DAYS)
        }, site => site.certificate.days.map(Value::Number)),
        certificate("cert-days", "N", "Days of validity, at most 825");
    "certificate-key" ValueForm::Word(&[
            ("p256", "ECDSA on P-256: accepted everywhere, and the fastest"),
            ("p384", "ECDSA on P-384"),
            ("rsa3072", "RSA with 3,072 bits, for old clients"),
        ]), "Type of the certificate's key.", "p256",
        choice!(KeyKind, draft => draft.rest.certificate.key, site => site.certificate.key),
        certificate("cert-key-kind", "KIND", "Type of its key");
    "address" ValueForm::Text, "Address that the names point to.", "127.0.0.1",
        value!(draft, values => draft.rest.address, last(values, address)?.unwrap_or(DEFAULT_ADDRESS),
            site => (site.address != DEFAULT_ADDRESS).then(|| text(&site.address)));
    "http-ports" ValueForm::Ports, "The ports for plain HTTP.", "80",
        value!(draft, values => draft.rest.serving.http_ports, read_ports(values, 80)?, site => ports(&site.serving.http_ports)),
        serving("http-port", "PORT", "Port for HTTP instead of 80 (repeatable)");
    "https-ports" ValueForm::Ports, "The ports for HTTPS.", "443",
        value!(draft, values => draft.rest.serving.https_ports, read_ports(values, 443)?, site => ports(&site.serving.https_ports)),
        serving("https-port", "PORT", "Port for HTTPS instead of 443 (repeatable)");
    "by-address" ValueForm::Flag, "Whether the site has its address to itself and answers for every host name there.", "false",
        flag!(draft => draft.rest.serving.by_address, site => site.serving.by_address),
        serving("by-address", "WHETHER", "Give the site its address to itself: it answers for every host name there");
    "only-here" ValueForm::Flag, "Whether the site answers only this computer.", "false; `yandro map` sets it for new sites",
        flag!(draft => draft.rest.serving.only_here, site => site.serving.only_here),
        serving("only-here", "WHETHER", "Answer only this computer (the default for a new site on a loopback address, unless its server is in a container or virtual machine)");
    "tenants" ValueForm::Flag, "Whether all names one level below the site's are answered like it.", "false",
        flag!(draft => draft.rest.serving.tenants, site => site.serving.tenants),
        serving("tenants", "WHETHER", "Answer all names one level below too, such as any.saltmarsh.test: by a wildcard certificate, and with no line of the hosts file");
    "redirect-aliases" ValueForm::Texts, "Aliases that redirect to the site's name instead of answering like it.", "none",
        value!(draft, values => draft.rest.serving.redirect_aliases, each(values, host)?,
            site => texts(site.serving.redirect_aliases.iter().map(HostName::to_unicode).collect())),
        or("off", serving("redirect-alias", "ALIAS", "Redirect this alias to the site's name (repeatable, `off` for none)"));
    "listing" ValueForm::Word(&[("on", "Yes"), ("off", "No")]), "Whether folders without an index are listed.", "on",
        choice!(Listing, draft => draft.rest.serving.listing, site => site.serving.listing),
        serving("listing", "WHETHER", "List folders that have no index page [default: on]");
    "overrides" ValueForm::Word(&[
            ("on", "Yes, but for a site without PHP no lines that can run programs, such as `SetHandler`"),
            ("all", "Every line"),
            ("off", "No"),
        ]), "Whether override files (`.htaccess`) count.", "on",
        choice!(Overrides, draft => draft.rest.serving.overrides, site => site.serving.overrides),
        serving("overrides", "WHICH", "Use `.htaccess` files, with Apache httpd [default: on]");
    "symlinks" ValueForm::Word(&[
            ("on", "All of them; the built-in server stays within the project's folder"),
            ("anywhere", "All of them, wherever they lead"),
            ("owner", "Links whose target has the same owner"),
            ("off", "None"),
        ]), "The symbolic links that are followed.", "on",
        choice!(Symlinks, draft => draft.rest.serving.symlinks, site => site.serving.symlinks),
        serving("symlinks", "WHETHER", "Follow symbolic links [default: on]");
    "http2" ValueForm::Word(&[
            ("auto", "If the server can: nginx, and Apache httpd with the module and without prefork"),
            ("on", "Yes; the module of Apache httpd is switched on"),
            ("off", "No"),
        ]), "Whether browsers may use HTTP/2.", "auto",
        choice!(Http2, draft => draft.rest.serving.http2, site => site.serving.http2),
        serving("http2", "WHETHER", "Offer HTTP/2 over HTTPS [default: where the server has it switched on]");
    "caching" ValueForm::Word(&[
            ("revalidate", "They ask each time whether a copy is still current"),
            ("off", "They keep none: `Cache-Control: no-store`"),
        ]), "What browsers may do with copies of files, on the built-in server.", "revalidate",
        choice!(Caching, draft => draft.rest.serving.caching, site => site.serving.caching),
        serving("caching", "HOW", "Let browsers keep copies of files and ask whether they are current (`revalidate`, the default), or keep none (`off`); built-in server only");
    "upstream-host" ValueForm::Word(&[("site", "The site's name"), ("own", "The upstream's own host and port")]),
        "Host name in requests to the running server.", "site",
        choice!(UpstreamHost, draft => draft.rest.serving.upstream_host, site => site.serving.upstream_host),
        serving("upstream-host", "WHOSE", "Host name sent to the running server: the site's (the default), or the server's own if it refuses others");
    "index" ValueForm::Texts, "Names of index pages; the first that exists is served.", "the server's own",
        value!(draft, values => draft.rest.serving.index, each(values, checked_index)?, site => texts(site.serving.index.clone())),
        or("off", serving("index", "FILE", "Name of an index page (repeatable, the first that exists is served; `off` for the server's own)"));
    "fallback" ValueForm::Text, "Path that answers for missing files, such as `/index.php`.", "nothing",
        value!(draft, values => draft.rest.serving.fallback, last(values, checked_fallback)?,
            site => site.serving.fallback.as_ref().map(text)),
        or("off", serving("fallback", "PATH", "Path that answers for missing files, such as /index.php or /index.html (`off` for none)"));
    "php" ValueForm::Text, "Address of php-fpm: the path of its socket, or `HOST:PORT`.", "no PHP",
        value!(draft, values => draft.rest.serving.php, last(values, FastCgi::parse)?, site => {
            let php = site.serving.php.as_ref().filter(|_| site.serving.php_as_owner.is_none());
            php.map(text)
        }),
        MapArgument { may_be_found: true, ..or("off", serving("php", "WHICH", "Run PHP files with php-fpm: the one that is found, or this one (a version such as 8.2, a socket or HOST:PORT; `off` for none)")) };
    "php-as-owner" ValueForm::Text, "The version of PHP, such as `8.2`, in which a pool of the site's own runs PHP files as the project's owner.", "no such pool",
        value!(draft, values => draft.rest.serving.php_as_owner, last(values, checked_version)?, site => site.serving.php_as_owner.as_ref().map(text)),
        MapArgument { may_be_found: true, ..or("off", serving("php-as-owner", "VERSION", "Run PHP files as the project's owner, in a pool of the site's own (`off` for the pool that all sites share)")) };
    "env" ValueForm::Texts, "Variables for the application, each as `NAME=VALUE`, or `NAME@FILE` for a secret in a file.", "none",
        value!(draft, values => draft.rest.serving.variables, variables(values, draft.home.as_deref())?,
            site => texts(site.serving.variables.iter().map(ToString::to_string).collect())),
        or("off", serving("env", "NAME=VALUE", "Set a variable for PHP and `yandro env`; NAME@FILE for a secret (repeatable; replaces those before, `off` for none)"));
    "extra" ValueForm::Text, "File with your own directives for the site's virtual hosts, absolute.", "none",
        value!(draft, values => draft.rest.serving.extra, draft.path(values, checked_path)?, site => site.serving.extra.as_ref().map(written)),
        path(or("off", serving("extra", "FILE", "File with your own directives for the site's virtual hosts (`off` for none)")));
    "logs" ValueForm::Text, "The folder of the site's logs, absolute; `off` for none.", "the server's own",
        value!(draft, values => draft.rest.serving.logs, draft.path(values, Logs::parse)?.unwrap_or_default(),
            site => (site.serving.logs != Logs::default()).then(|| text(&site.serving.logs))),
        path(serving("logs", "FOLDER", "Folder for the site's logs (`usual` for the server's own, `off` for none)"));
}

/// The page on the keys of the site list, in Markdown: `docs/sites-toml.md`.
pub fn options_page() -> String {
    let mut page = String::from(
        "# sites.toml\n\nEvery key of a site in the site list, `~/.config/yandro/sites.toml`. This page is made from the code's own table.\nEdit the list as you like, then run `yandro settle`; `yandro map` writes the same keys.\n\n```toml\n[[site]]\nname = \"saltmarsh.test\"\nfolder = \"/home/ada/saltmarsh\"\n```\n\nBelow a site, `[[site.step]]` has [commands to run after mapping](guide/steps.md).\n\n| key | value | unless said | what it is |\n|---|---|---|---|\n",
    );
    for option in OPTIONS {
        let value = match option.form {
            ValueForm::Flag => "`true` or `false`".to_owned(),
            ValueForm::Word(words) => {
                words.iter().map(|(word, _)| format!("`\"{word}\"`")).collect::<Vec<_>>().join(", ")
            }
            ValueForm::Text => "a string".to_owned(),
            ValueForm::Texts => "an array of strings".to_owned(),
            ValueForm::Number => "a number".to_owned(),
            ValueForm::Ports => "an array of numbers".to_owned(),
        };
        page += &format!("| `{}` | {value} | {} | {} |\n", option.key, option.usual, option.meaning);
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The page is made from the table: `YANDRO_WRITE_DOCS=1 cargo test -p yandro-core options`.
    #[test]
    #[allow(clippy::disallowed_methods, reason = "the page is a file")]
    fn the_page_of_keys_is_the_table_of_options() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/sites-toml.md");
        if std::env::var_os("YANDRO_WRITE_DOCS").is_some() {
            std::fs::write(path, options_page()).unwrap();
        }
        assert_eq!(std::fs::read_to_string(path).unwrap(), options_page());
    }

    #[test]
    fn words_of_the_table_are_those_of_the_choices() {
        let site = Site::new(HostName::parse("saltmarsh.test").unwrap(), Content::folder("/srv"));
        for option in OPTIONS {
            let ValueForm::Word(words) = option.form else { continue };
            for (word, _) in words {
                let mut draft = Draft::of(&site);
                (option.read)(&mut draft, &[word]).unwrap();
                let written = option.value(&draft.finish().unwrap());
                let is_usual = *word == option.usual;
                assert_eq!(written, (!is_usual).then(|| Value::Text((*word).to_owned())), "{} = {word}", option.key);
            }
        }
    }
}
