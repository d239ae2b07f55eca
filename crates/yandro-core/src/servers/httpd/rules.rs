//! The lines of a configuration that may answer a site's requests in the place of its folder: of the sections that
//! they are in, the one that Apache httpd merges last counts (manual, "Configuration Sections").

use crate::server_path::ServerPath;

use super::overrides::{denies, forbidding_status};
use super::run::{Event, EventKind, HttpdRun};
use crate::config::{Place, matches_path};
use crate::servers::rule::{ASKED_PATHS, CURRENT_TLS, fits_asked};
use crate::servers::{Rule, RuleEffect};

/// Meaning of a section for the lines within it.
enum Within {
    /// They count for requests like the site's, with the section's rank.
    Site {
        rank: Rank,
        /// Whether who may come in by the sections before has to be let in here as well (`AuthMerging And`).
        is_merging: bool,
    },
    /// They apply to the surrounding section.
    Same,
    /// They are about other folders, other requests, or another site.
    Other,
}

impl Within {
    fn site(rank: Rank) -> Self {
        Self::Site { rank, is_merging: false }
    }
}

/// The order in which sections are merged: the later one counts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    #[default]
    Server,
    Host,
    /// `<Directory>`, by the number of its folders.
    Folder(usize),
    Files,
    Location,
    Condition,
}

/// The lines that count for the folder `root` and the site whose virtual hosts `is_of_site` knows, by the kind of
/// their effect; of each kind the one that counts.
pub(super) fn rules(run: &HttpdRun, root: &ServerPath, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<Rule> {
    let mut walk = RuleWalk { root, is_of_site, within: Vec::new(), found: Vec::new() };
    for event in &run.events {
        match event.kind {
            EventKind::Open => {
                let within = walk.section(event);
                walk.within.push(within);
            }
            EventKind::Close => _ = walk.within.pop(),
            EventKind::Directive => walk.directive(event),
        }
    }
    walk.found.into_iter().filter_map(|(.., (place, effect))| Some(Rule { effect: effect?, place })).collect()
}

/// The place of a section in the order of merging, and whether it is within the site's virtual host: of two sections of
/// one rank that one counts.
type Merged = (Rank, bool);

/// A line, and its effect; `None` if it only undoes what lines of lower rank do.
type Line = (Place, Option<RuleEffect>);

struct RuleWalk<'a> {
    root: &'a ServerPath,
    is_of_site: &'a dyn Fn(&Place) -> bool,
    within: Vec<Within>,
    found: Vec<(Topic, Merged, Line)>,
}

/// Subject of a directive: of each only one line counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Topic {
    Access,
    Redirect,
    Certificate,
    Tls,
    Links,
    Index,
}

impl RuleWalk<'_> {
    fn section(&self, event: &Event) -> Within {
        let is_any = |names: &[&str]| names.iter().any(|name| event.is(name));
        let first = || event.arguments.first().map_or("", String::as_str);
        let fits = |is_fitting: bool, rank| if is_fitting { Within::site(rank) } else { Within::Other };
        if is_any(&["IfModule", "IfDefine", "IfVersion", "RequireAll", "RequireAny", "Limit", "LimitExcept"]) {
            return Within::Same;
        }
        if is_any(&["If", "ElseIf", "Else"]) {
            // Whether its condition holds shows only in a request.
            return Within::site(Rank::Condition);
        }
        match event.name.to_ascii_lowercase().as_str() {
            "virtualhost" => fits((self.is_of_site)(&event.place), Rank::Host),
            "directory" if first() != "~" => {
                let folder = ServerPath::new(first());
                fits(matches_path(&folder, self.root), Rank::Folder(folder.depth()))
            }
            "location" if first() != "~" => {
                fits(ASKED_PATHS.iter().any(|path| is_below(path, first())), Rank::Location)
            }
            "files" if first() != "~" => {
                fits(is_index(|name| matches_path(&first().into(), &name.into())), Rank::Files)
            }
            "directory" | "directorymatch" => {
                let pattern = event.arguments.last().map_or("", String::as_str);
                let path = format!("{}/", self.root);
                let is_fitting = regex_lite::Regex::new(pattern).is_ok_and(|regex| regex.is_match(&path));
                fits(is_fitting, Rank::Folder(usize::MAX))
            }
            "location" | "locationmatch" => {
                fits(fits_asked(event.arguments.last().map_or("", String::as_str)), Rank::Location)
            }
            "files" | "filesmatch" => {
                let regex = regex_lite::Regex::new(event.arguments.last().map_or("", String::as_str)).ok();
                fits(is_index(|name| regex.as_ref().is_some_and(|regex| regex.is_match(name))), Rank::Files)
            }
            _ => Within::Other,
        }
    }

    fn directive(&mut self, event: &Event) {
        if event.is("AuthMerging") {
            let is_off = event.arguments.first().is_some_and(|word| word.eq_ignore_ascii_case("off"));
            if let Some(Within::Site { is_merging, .. }) = self.within.last_mut() {
                *is_merging = !is_off;
            }
            return;
        }
        let (mut rank, mut is_in_host, mut merges) = (Rank::Server, false, false);
        for within in &self.within {
            match within {
                Within::Other => return,
                Within::Same => {}
                Within::Site { rank: inner, is_merging } => {
                    rank = rank.max(*inner);
                    is_in_host |= *inner == Rank::Host;
                    merges = *is_merging;
                }
            }
        }
        let Some((topic, effect)) = effect(event, rank) else { return };
        let line = (event.place.clone(), effect);
        // A condition that isn't known to hold takes nothing away, nor do sections that are added to the ones before.
        if (rank == Rank::Condition || topic == Topic::Access && merges) && line.1.is_none() {
            return;
        }
        let merged = (rank, is_in_host);
        match self.found.iter_mut().find(|(own, ..)| *own == topic) {
            // The first rule answers.
            Some(_) if topic == Topic::Redirect => {}
            Some((_, known, found)) if *known <= merged => (*known, *found) = (merged, line),
            Some(_) => {}
            None => self.found.push((topic, merged, line)),
        }
    }
}

/// The topic of a directive, and its effect where it has one.
fn effect(event: &Event, rank: Rank) -> Option<(Topic, Option<RuleEffect>)> {
    let arguments = || event.arguments.iter().map(String::as_str);
    let first = || arguments().next().unwrap_or_default();
    if let Some(is_denied) = denies(&event.name, arguments()) {
        // Beyond all folders it is only what applies to none of them.
        let is_within = rank > Rank::Folder(1) || rank == Rank::Folder(1) && !is_denied;
        return is_within.then_some((Topic::Access, is_denied.then_some(RuleEffect::Denies)));
    }
    match event.name.to_ascii_lowercase().as_str() {
        "rewriterule" | "redirect" | "redirectmatch" => {
            let status = forbidding_status(&event.name, &event.arguments)?;
            Some((Topic::Redirect, Some(RuleEffect::Answers(status))))
        }
        "sslverifyclient" => {
            let is_asked = first().eq_ignore_ascii_case("require");
            Some((Topic::Certificate, is_asked.then_some(RuleEffect::WantsCertificate)))
        }
        "sslprotocol" => Some((Topic::Tls, is_old(arguments()).then_some(RuleEffect::OldTls))),
        "options" => {
            let bars = bars_links(arguments())?;
            Some((Topic::Links, bars.then_some(RuleEffect::BarsLinks)))
        }
        "directoryindex" => Some((Topic::Index, Some(RuleEffect::Indexes(arguments().map(str::to_owned).collect())))),
        _ => None,
    }
}

/// Whether a path is the one of a `<Location>`, or below it.
fn is_below(path: &str, location: &str) -> bool {
    let location = location.trim_end_matches('/');
    path.strip_prefix(location).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        || !location.is_empty() && matches_path(&location.into(), &path.into())
}

/// Whether one of the usual index pages fits.
fn is_index(fits: impl Fn(&str) -> bool) -> bool {
    ASKED_PATHS.iter().filter_map(|path| path.rsplit('/').next()).any(|name| name.starts_with("index") && fits(name))
}

/// Whether `SSLProtocol` leaves out both versions that browsers take.
fn is_old<'v>(words: impl Iterator<Item = &'v str>) -> bool {
    let mut has = [false; CURRENT_TLS.len()];
    for word in words {
        let (is_on, name) = match word.split_at_checked(1) {
            Some(("-", name)) => (false, name),
            Some(("+", name)) => (true, name),
            _ => (true, word),
        };
        for (version, has) in CURRENT_TLS.iter().zip(&mut has) {
            if name.eq_ignore_ascii_case("all") || name.eq_ignore_ascii_case(version) {
                *has = is_on;
            }
        }
    }
    !has.iter().any(|has| *has)
}

/// Whether `Options` forbids symbolic links, or those of other owners; `None` if it says nothing of them.
fn bars_links<'v>(words: impl Iterator<Item = &'v str>) -> Option<bool> {
    let words: Vec<String> = words.map(str::to_ascii_lowercase).collect();
    let has = |wanted: &str| words.iter().any(|word| word == wanted);
    if has("+followsymlinks") || has("followsymlinks") || has("all") {
        return Some(false);
    }
    if has("-followsymlinks") || has("symlinksifownermatch") || has("+symlinksifownermatch") {
        return Some(true);
    }
    // A list without signs takes the place of what was there.
    words.iter().all(|word| !word.starts_with(['+', '-'])).then_some(true)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::Files;
    use crate::servers::{ServerReport, Start};

    /// A configuration of one file.
    struct OneFile<'t>(&'t str);

    impl Files for OneFile<'_> {
        fn read(&self, _: &ServerPath) -> Option<Vec<u8>> {
            Some(self.0.as_bytes().to_vec())
        }

        fn list(&self, _: &ServerPath) -> Option<Vec<String>> {
            None
        }
    }

    fn of(text: &str) -> Vec<String> {
        let main = || "/h/httpd.conf".into();
        let report =
            ServerReport { version: [2, 4, 66], root: "/h".into(), main: main(), built_in: Vec::new(), pid_file: None };
        let start = Start { main: main(), report, environment: [].into(), defines: Vec::new() };
        let run = HttpdRun::run(&start, &OneFile(text));
        assert_eq!(run.fault, None, "{text}");
        let rules = rules(&run, &ServerPath::new("/srv/tides"), &|place| place.line == 2);
        rules.iter().map(|rule| format!("{:?} {}", rule.effect, rule.place.line)).collect()
    }

    /// The virtual host in line 2 is the site's; its lines begin in line 3.
    fn in_host(lines: &str, after: &str) -> Vec<String> {
        of(&format!("# tides\n<VirtualHost *:443>\n{lines}\n</VirtualHost>\n{after}\n"))
    }

    #[test]
    fn of_the_sections_the_one_that_is_merged_last_counts() {
        let (granted, denied) = ("Require all granted", "Require all denied");
        let folder = |path: &str, line: &str| format!("<Directory {path}>\n{line}\n</Directory>");
        let location = |path: &str, line: &str| format!("<Location {path}>\n{line}\n</Location>");
        for (lines, after, expected) in [
            // The usual beginning of every configuration doesn't count.
            (folder("/", denied), String::new(), vec![]),
            (folder("/srv/tides", granted), folder("/srv", denied), vec![]),
            (folder("/srv", granted), folder("/srv/tides", denied), vec!["Denies 8"]),
            (folder("/srv/tides", granted), folder("/srv/tides", denied), vec![]),
            (folder("/srv/*", denied), String::new(), vec!["Denies 4"]),
            (folder("/srv/depot", denied), String::new(), vec![]),
            (location("/", granted), folder("/srv/tides", denied), vec![]),
            (folder("/srv/tides", granted), location("/", denied), vec!["Denies 8"]),
            (location("/", "AuthMerging And\nRequire local"), location("/", denied), vec!["Denies 9"]),
            (location("/admin", denied), String::new(), vec![]),
            (format!("<Files ~ \"\\.html$\">\n{denied}\n</Files>"), String::new(), vec!["Denies 4"]),
            (format!("<Files .env>\n{denied}\n</Files>"), String::new(), vec![]),
            (format!("<If \"-T reqenv('X')\">\n{denied}\n</If>"), String::new(), vec!["Denies 4"]),
            (format!("<If \"-T reqenv('X')\">\n{granted}\n</If>"), location("/", denied), vec!["Denies 8"]),
            (String::new(), format!("<VirtualHost *:80>\n{}\n</VirtualHost>", location("/", denied)), vec![]),
        ] {
            assert_eq!(in_host(&lines, &after), expected, "{lines} {after}");
        }
    }

    #[test]
    fn each_line_has_its_effect() {
        for (line, expected) in [
            ("RewriteRule ^ - [F]", vec!["Answers(403) 3"]),
            ("RewriteRule ^/?$ - [R=404,L]", vec!["Answers(404) 3"]),
            ("RewriteRule \"(^|/)\\.\" - [F]", vec![]),
            ("RewriteRule ^/old - [G]", vec![]),
            ("Redirect gone /", vec!["Answers(410) 3"]),
            ("RedirectMatch 403 .*", vec!["Answers(403) 3"]),
            ("Redirect 302 / https://tides.test/", vec![]),
            ("SSLVerifyClient require", vec!["WantsCertificate 3"]),
            ("SSLVerifyClient optional", vec![]),
            ("SSLProtocol -all +TLSv1.1", vec!["OldTls 3"]),
            ("SSLProtocol all -SSLv3", vec![]),
            ("SSLProtocol TLSv1.3", vec![]),
            ("Options -Indexes", vec![]),
            ("Options Indexes", vec!["BarsLinks 3"]),
            ("Options Indexes FollowSymLinks", vec![]),
            ("DirectoryIndex a.html b.html", vec!["Indexes([\"a.html\", \"b.html\"]) 3"]),
        ] {
            assert_eq!(in_host(line, ""), expected, "{line}");
        }
    }
}
