//! Permissions of the helper: worked out from the files as they are, before anything is changed.

use std::collections::BTreeMap;

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use yandro_core::{
    CertificateFacts, Change, FileChange, ListId, OTHERS, Places, Reading, Role, ServerId, Site, SiteList, Step,
    TrustStore, Wish, WishLists, brought_back, list_of, nickname, own_hosts_lines, vetted_root, with_own_hosts_lines,
};

use super::kept::Kept;
use super::taken_back::is_taken_back;
use super::unplanned::{Unplanned, in_words};
use super::way::{check_way, is_users};
use super::{Asked, HelperAnswer, PathState, vetting};
use crate::files;
use crate::fresh::SystemFresh;
use crate::machine::Machine;
use crate::observe;
use crate::os::{self, UserId};
use crate::php;

/// A path that root does not change on this user's word, and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// The file or link.
    pub path: Utf8PathBuf,
    /// A sentence without its full stop.
    pub why: String,
}

/// The new state of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Target {
    Absent,
    File(Vec<u8>),
    Link(Utf8PathBuf),
}

/// A change that root's own plan has.
#[derive(Clone, Debug)]
pub(super) struct Permit {
    pub(super) from: PathState,
    pub(super) target: Target,
    /// Certificate and key that the file names: they have to be there, and the caller's.
    pub(super) certificate: Vec<Utf8PathBuf>,
}

/// All of them, by path.
pub(super) type Permits = BTreeMap<Utf8PathBuf, Permit>;

/// Judges what is asked for; gives what may be done and what not.
pub(super) fn judge(wish: &Wish, uid: UserId, asked: &[Asked]) -> (Permits, Vec<Refusal>) {
    let mut judge = PermitJudge { wish, uid, permits: Permits::new(), refusals: Vec::new(), left: asked.to_vec() };
    judge.all();
    (judge.permits, judge.refusals)
}

struct PermitJudge<'w> {
    wish: &'w Wish,
    uid: UserId,
    permits: Permits,
    refusals: Vec<Refusal>,
    left: Vec<Asked>,
}

impl PermitJudge<'_> {
    fn all(&mut self) {
        let left = std::mem::take(&mut self.left);
        for asked in left {
            let way = check_way(&asked.path);
            // A folder that isn't there is for the plan to make, and none of root's plans does.
            let is_missing = matches!(way, Err(HelperAnswer::Failed { errno }) if is_not_found(errno));
            if let Err(answer) = way.clone()
                && !is_missing
            {
                self.refuse(&asked.path, words(answer));
            } else if is_taken_back(&Kept::read(), self.uid, &asked.path, &asked.from, &asked.to) {
                // Undoing the helper's earlier change needs no plan.
            } else {
                self.left.push(asked);
            }
        }
        if self.left.is_empty() {
            return;
        }
        let (machine, lists) = match self.read() {
            Ok(read) => read,
            Err(why) => return self.refuse_rest(&why.to_string()),
        };
        let known = lists.known();
        self.roots(machine.user());
        let mut why = None;
        for reading in Reading::ALL {
            if self.left.is_empty() {
                return;
            }
            match self.planned(&machine, reading, &lists) {
                Ok(steps) => self.take(&machine, &known, steps),
                Err(error) => why = why.or(Some(in_words(&error))),
            }
        }
        self.hosts_lines(&machine.places, &known);
        let why = why.unwrap_or_else(|| "your site list does not ask for this change".into());
        self.refuse_rest(&why);
    }

    fn refuse(&mut self, path: &Utf8Path, why: impl Into<String>) {
        self.refusals.push(Refusal { path: path.to_owned(), why: why.into() });
    }

    fn refuse_rest(&mut self, why: &str) {
        for asked in std::mem::take(&mut self.left) {
            self.refuse(&asked.path, why);
        }
    }

    /// The machine with the user's folders, and the site lists.
    fn read(&self) -> Result<(Machine, WishLists), Unplanned> {
        let folders = [&self.wish.config, &self.wish.data];
        if let Some(folder) = folders.into_iter().find(|folder| !is_users(folder, self.uid)) {
            return Err(Unplanned::ForeignFolder(folder.clone()));
        }
        let machine = Machine::of_user(self.uid, &self.wish.config, &self.wish.data)?;
        let lists = WishLists::read(self.wish)?;
        // That name's file is the default virtual host, which all users share.
        let is_shared = lists.all().flat_map(Site::names).any(|name| name.as_str() == OTHERS);
        if is_shared { Err(Unplanned::SharedName) } else { Ok((machine, lists)) }
    }

    /// The system's steps in the plan of one reading, each with the server that it is for.
    fn planned(
        &self,
        machine: &Machine,
        reading: Reading,
        lists: &WishLists,
    ) -> Result<Vec<(Option<ServerId>, Step)>, Unplanned> {
        let sites = reading.sites(lists);
        let names = lists.all().map(|site| site.name.clone());
        let observed = observe::observe_system(machine, &self.wish.before, names, &sites, OffsetDateTime::now_utc());
        let mut observed = observed?;
        // Nobody's PHP runs as somebody else on their word.
        let user = php::owner_of_pool(self.uid);
        observed.pools.owners.retain(|_, owner| Some(&*owner) == user.as_ref());
        let mut known = lists.clone();
        if reading != Reading::Changes {
            // Servers in the user's own settings are none of root's.
            let is_there = |id: ServerId| !id.is_configured() || observed.has_server(id);
            known.after.sites.retain(|site| site.server.is_none_or(is_there));
        }
        let set = reading.plan(&mut observed, &known, self.wish.server, &mut SystemFresh::new());
        let steps = set?.steps.into_iter();
        let systems = steps.filter(|step| observed.is_systems(step));
        Ok(systems.map(|step| (observed.server_of(step.path()), step)).collect())
    }

    /// Takes what is asked for and planned alike.
    fn take(&mut self, machine: &Machine, after: &SiteList, steps: Vec<(Option<ServerId>, Step)>) {
        let places = &machine.places;
        let going: Vec<Vec<u8>> = steps.iter().filter_map(|(_, step)| going(places, step)).collect();
        for (server, step) in steps {
            let Step { role, change } = step;
            let (path, from, target) = match change {
                Change::File(change) => {
                    let target = change.after.map_or(Target::Absent, |content| Target::File(content.to_vec()));
                    (change.path, PathState::of_file(change.before.as_deref().map(Vec::as_slice)), target)
                }
                Change::Link(change) => {
                    let from = PathState::of_link(change.before.as_deref());
                    (change.path, from, change.after.map_or(Target::Absent, Target::Link))
                }
                _ => continue,
            };
            let wanted = Asked { path: path.clone(), from: from.clone(), to: target.state() };
            let Some(at) = self.left.iter().position(|asked| *asked == wanted) else { continue };
            self.left.remove(at);
            let of_site = match &role {
                Role::VirtualHost(name) | Role::PhpPool { site: name, .. } => Some(name.clone()),
                _ => None,
            };
            let site = if target == Target::Absent { None } else { of_site.clone() };
            let own = site.as_ref().and_then(|name| after.site(name));
            let unlisted = if own.is_none() { site.as_ref() } else { None };
            let unlisted = unlisted.map(|name| format!("your site list has no site `{name}`"));
            let foreign = if is_of_list(places, &path) { None } else { of_site };
            let foreign = foreign.map(|name| format!("the file of `{name}` does not name your site list as its owner"));
            let why =
                foreign.or_else(|| own.and_then(|site| vetting::of_site(site, self.uid))).or(unlisted).or_else(|| {
                    match &target {
                        Target::File(_) if matches!(role, Role::Resolver(_)) => vetting::of_tenants(after),
                        Target::File(content) if path == places.hosts => {
                            let present = own_hosts_lines(&present_hosts(places), &places.list);
                            vetting::of_lines(&own_hosts_lines(content, &places.list), &present, after)
                        }
                        Target::File(content) => vetting::of_shared(machine, server, &path, content, &going),
                        _ => None,
                    }
                });
            if let Some(why) = why {
                self.refuse(&path, why);
                continue;
            }
            let certificate = own.filter(|site| site.https.is_on());
            let certificate =
                certificate.map(|site| vec![places.chain(&site.name), places.key(&site.name)]).unwrap_or_default();
            self.permits.insert(path, Permit { from, target, certificate });
        }
    }

    /// The hosts file, by the lines of the user's own block.
    fn hosts_lines(&mut self, places: &Places, after: &SiteList) {
        let Some(at) = self.left.iter().position(|asked| asked.path == places.hosts) else { return };
        let now = present_hosts(places);
        let written = with_own_hosts_lines(&now, &places.list, &self.wish.hosts);
        let asked = &self.left[at];
        let why = match &written {
            Err(error) => Some(error.to_string()),
            Ok(after)
                if asked.from != PathState::of_file(Some(&now)) || asked.to != PathState::of_file(Some(after)) =>
            {
                Some("lines outside your own block would change".into())
            }
            Ok(_) => vetting::of_lines(&self.wish.hosts, &own_hosts_lines(&now, &places.list), after),
        };
        let Asked { path, from, .. } = self.left.remove(at);
        match (why, written) {
            (None, Ok(after)) => {
                self.permits.insert(path, Permit { from, target: Target::File(after), certificate: Vec::new() });
            }
            (why, _) => self.refuse(&path, why.unwrap_or_default()),
        }
    }

    /// Root certificates of the user's own authority, in the system's store.
    fn roots(&mut self, user: &str) {
        let (roots, rest) =
            std::mem::take(&mut self.left).into_iter().partition(|asked| TrustStore::of_file(&asked.path).is_some());
        self.left = rest;
        let roots: Vec<Asked> = roots;
        for Asked { path, from, to } in roots {
            let present = || files::read_if_there(&path).ok().flatten().unwrap_or_default();
            let text = match &to {
                PathState::Absent => String::from_utf8_lossy(&present()).into_owned(),
                _ => self.wish.root.clone().unwrap_or_default(),
            };
            let target = match (vetted_root(&text, user), &to) {
                (Err(why), _) => {
                    self.refuse(&path, why.to_string());
                    continue;
                }
                (Ok(_), PathState::Absent) => Target::Absent,
                (Ok(pem), _) if is_named_for(&path, &pem) => Target::File(pem.into_bytes()),
                (Ok(_), _) => {
                    self.refuse(&path, format!("{path} is not the name of this certificate"));
                    continue;
                }
            };
            if target.state() == to {
                self.permits.insert(path, Permit { from, target, certificate: Vec::new() });
            } else {
                self.refuse(&path, "the file is to hold more than the certificate");
            }
        }
    }
}

impl Target {
    pub(super) fn state(&self) -> PathState {
        match self {
            Self::Absent => PathState::Absent,
            Self::File(content) => PathState::of_file(Some(content)),
            Self::Link(target) => PathState::of_link(Some(target)),
        }
    }
}

/// The content of a site's file that a step removes.
fn going(places: &Places, step: &Step) -> Option<Vec<u8>> {
    match (&step.role, &step.change) {
        (Role::VirtualHost(_), Change::File(FileChange { path, before: Some(before), after: None, .. })) => {
            is_of_list(places, path).then(|| brought_back(before))
        }
        _ => None,
    }
}

/// Whether the file of a site is this list's, or new. A file of an early build names its certificate only.
fn is_of_list(places: &Places, path: &Utf8Path) -> bool {
    let Some(present) = files::read_if_there(path).ok().flatten() else { return true };
    match list_of(&present) {
        Some(list) => list == places.list,
        None => String::from_utf8_lossy(&present).contains(places.certificates().as_str()),
    }
}

fn present_hosts(places: &Places) -> Vec<u8> {
    files::read_if_there(&places.hosts).ok().flatten().unwrap_or_default()
}

fn is_named_for(path: &Utf8Path, pem: &str) -> bool {
    let certificates = CertificateFacts::certificates(pem.as_bytes()).unwrap_or_default();
    certificates.first().is_some_and(|own| path.file_stem() == Some(&nickname(&files::sha256(own))))
}

/// Whether the certificate and key that a site's file names are the user's own files.
pub(super) fn has_own_certificate(permit: &Permit, uid: UserId) -> bool {
    permit.certificate.iter().all(|file| os::is_own_file(file, uid))
}

fn is_not_found(errno: i32) -> bool {
    std::io::Error::from_raw_os_error(errno).kind() == std::io::ErrorKind::NotFound
}

fn words(answer: HelperAnswer) -> String {
    match answer {
        HelperAnswer::Refused { words } => words,
        HelperAnswer::Failed { errno } => std::io::Error::from_raw_os_error(errno).to_string(),
        _ => String::new(),
    }
}

impl Machine {
    /// The real machine as one user's yandro sees it, with the servers that root knows.
    fn of_user(uid: UserId, config: &Utf8Path, data: &Utf8Path) -> Result<Self, Unplanned> {
        let mut machine = Self::bare();
        let name = crate::machine::user_name(uid).ok_or(Unplanned::NoUser(uid))?;
        machine.places.list = ListId::new(&name, &config.join("sites.toml"));
        machine.places.config = config.to_owned();
        machine.places.data = data.to_owned();
        machine.owner = format!("{name}@");
        Ok(machine)
    }
}
