//! The lines of a server block, and of what is around it, that may answer requests in the place of the site's folder.

use core::net::IpAddr;

use crate::server_path::ServerPath;

use super::{NginxRun, ServerBlock};
use crate::config::{Directive, Place};
use crate::network;
use crate::servers::rule::{ASKED_PATHS, CURRENT_TLS, fits_asked};
use crate::servers::{Rule, RuleEffect};

/// The directives that matter.
const NAMES: [&str; 10] = [
    "allow",
    "deny",
    "disable_symlinks",
    "index",
    "internal",
    "limit_conn",
    "limit_req",
    "return",
    "ssl_protocols",
    "ssl_verify_client",
];

/// A directive that may answer requests.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct AnsweringLine {
    /// Whether it is in a `location` for paths that a check asks for, or in an `if`.
    is_inner: bool,
    name: String,
    values: Vec<String>,
    place: Place,
}

impl AnsweringLine {
    /// The line, if its directive is one that matters.
    pub(super) fn of(own: &Directive, file: &ServerPath, is_inner: bool) -> Option<Self> {
        let place = Place { file: file.to_string(), line: own.line };
        let values = || own.values().map(str::to_owned).collect();
        NAMES.contains(&own.name.as_str()).then(|| Self { is_inner, name: own.name.clone(), values: values(), place })
    }

    fn first(&self) -> &str {
        self.values.first().map_or("", String::as_str)
    }

    /// Whether an `allow` or `deny` is about an address (`ngx_http_access_module`).
    fn is_about(&self, address: IpAddr) -> bool {
        self.first() == "all" || network::parse(self.first()).is_some_and(|network| network.contains(&address))
    }

    fn effect(&self) -> Option<RuleEffect> {
        match self.name.as_str() {
            "return" => {
                let status = self.first().parse().ok().filter(|status| (400..600).contains(status))?;
                Some(RuleEffect::Answers(status))
            }
            "internal" => Some(RuleEffect::Answers(404)),
            "limit_conn" | "limit_req" => Some(RuleEffect::Limits),
            "disable_symlinks" if self.first() != "off" => Some(RuleEffect::BarsLinks),
            "ssl_verify_client" if self.first() == "on" => Some(RuleEffect::WantsCertificate),
            "ssl_protocols" if !self.values.iter().any(|own| CURRENT_TLS.contains(&own.as_str())) => {
                Some(RuleEffect::OldTls)
            }
            "index" => Some(RuleEffect::Indexes(self.values.clone())),
            _ => None,
        }
    }
}

/// Whether a `location` is for one of the paths that a check asks for.
pub(super) fn is_for_asked<'v>(mut values: impl Iterator<Item = &'v str>) -> bool {
    match (values.next().unwrap_or_default(), values.next()) {
        ("=", Some(path)) => ASKED_PATHS.contains(&path),
        ("^~", Some(prefix)) | (prefix, None) => ASKED_PATHS.iter().any(|path| path.starts_with(prefix)),
        ("~", Some(pattern)) => fits_asked(pattern),
        ("~*", Some(pattern)) => fits_asked(&format!("(?i){pattern}")),
        _ => false,
    }
}

impl NginxRun {
    /// The lines that may answer requests of this machine at `address`: of a block's locations and conditions, of the
    /// block, and of what is around it, the innermost first.
    pub fn rules(&self, block: &ServerBlock, address: IpAddr) -> Vec<Rule> {
        let (inner, own): (Vec<_>, Vec<_>) = block.lines.iter().partition(|line| line.is_inner);
        let levels = [inner, own, self.lines.iter().collect()];
        let mut found: Vec<Rule> = denied(&levels, address).into_iter().collect();
        for level in levels {
            for line in level {
                let Some(effect) = line.effect() else { continue };
                let is_list = matches!(effect, RuleEffect::Indexes(_) | RuleEffect::OldTls);
                // An inner line takes the place of an outer one.
                let is_known = |own: &Rule| core::mem::discriminant(&own.effect) == core::mem::discriminant(&effect);
                if !is_list || !found.iter().any(is_known) {
                    found.push(Rule::new(effect, &line.place));
                }
            }
        }
        found
    }
}

/// The line that keeps an address out: the first that is about it counts, and what is around only where what is
/// inside says nothing.
fn denied(levels: &[Vec<&AnsweringLine>], address: IpAddr) -> Option<Rule> {
    let is_access = |line: &&&AnsweringLine| matches!(line.name.as_str(), "allow" | "deny");
    let mut of_level = levels.iter().map(|level| level.iter().filter(is_access).collect::<Vec<_>>());
    let lines = of_level.find(|level| !level.is_empty())?;
    let first = lines.iter().find(|line| line.is_about(address)).filter(|line| line.name == "deny")?;
    Some(Rule::new(RuleEffect::Denies, &first.place))
}
