//! `yandro authority trust` and `distrust`, and moving trust to another root.

use std::cell::RefCell;

use camino::Utf8PathBuf;
use yandro_core::{Access, Authority, Change, ChangeSet, Role, Step, StoreKind, TrustChange, vetted_root};
use yandro_machine::{files, observe, trust, trust::stores, trust::stores::Store};

use super::own::{none_yet, root_nickname};
use crate::args::StoresArg;
use crate::commands::apply::{Planned, apply, done};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::change::{labelled, summary};
use crate::view::{Data, Outcome, STRONG, Ui, data};

pub(super) fn trust<'c>(context: &'c Context, which: StoresArg, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    change_trust(context, which, ui, TrustWish::Trust)
}

pub(super) fn distrust<'c>(context: &'c Context, which: StoresArg, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    change_trust(context, which, ui, TrustWish::Distrust)
}

/// The wanted change of the roots in the trust stores.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(in crate::commands) enum TrustWish {
    Trust,
    Distrust,
    /// Stores that trust a former root trust the new one instead.
    Move,
}

/// The root certificate of the user's authority.
#[derive(Clone, Copy)]
pub(in crate::commands) struct Root<'r> {
    /// The name of its file and in stores.
    pub(in crate::commands) nickname: &'r str,
    /// In PEM.
    pub(in crate::commands) pem: &'r str,
}

/// The trust stores that a command is about.
pub(in crate::commands) struct Chosen {
    /// Whether the system's is one of them.
    has_system: bool,
    /// Stores that can be changed.
    stores: Vec<Store>,
    /// Stores that stay, with the reason.
    left: Vec<String>,
    /// Stores that root doesn't change on a user's word, with the reason.
    skipped: RefCell<Vec<String>>,
    /// A store that can't be changed, and that the system's own should update.
    followed: Option<Store>,
}

impl Chosen {
    /// If a root is only added, stores built from the system's follow it.
    pub(in crate::commands) fn of(context: &Context, which: StoresArg, wish: TrustWish) -> Self {
        let machine = &context.machine;
        let has_system = trust::find(machine).is_some() && matches!(which, StoresArg::All | StoresArg::System);
        let is_meant = |store: &Store| match store.kind {
            StoreKind::Nss => matches!(which, StoresArg::All | StoresArg::Browsers),
            StoreKind::Java => matches!(which, StoresArg::All | StoresArg::Java),
            StoreKind::Keychain | StoreKind::WindowsRoot => matches!(which, StoresArg::All | StoresArg::System),
        };
        let (mut chosen, mut left, mut followed) = (Vec::new(), Vec::new(), None);
        for store in stores::find(machine).into_iter().filter(is_meant) {
            if !stores::has_program(machine, &store) {
                left.push(format!("{}: {}", store.title, no_program(store.kind)));
            } else if stores::may_change(&store) {
                chosen.push(store);
            } else if wish == TrustWish::Trust && store.is_of_system && has_system {
                followed = Some(store);
            } else if stores::may_be_asked_for(machine, &store) {
                chosen.push(store);
            } else {
                left.push(needs_root(&store));
            }
        }
        left.dedup();
        Self { has_system, stores: chosen, left, skipped: RefCell::default(), followed }
    }

    /// Stores that should have followed and didn't.
    fn look_at_followed(&mut self, context: &Context, own: &str, root: &[u8]) {
        let has_not = |store: &Store| stores::trusts(&context.machine, store, own, root) == Some(false);
        self.left.extend(self.followed.take().filter(has_not).as_ref().map(needs_root));
    }

    /// Plans what is wished for each of them; all other roots of yandro's go out.
    pub(in crate::commands) fn plan(
        &self,
        context: &Context,
        set: &mut ChangeSet,
        root: Root<'_>,
        wish: TrustWish,
    ) -> Result<(), CommandError> {
        if self.has_system {
            of_system(context, set, root, wish)?;
        }
        // Update a store directly even where the system builds it: the hook may run late, and it never
        // removes a root.
        // Root takes no wider root on a user's word.
        let is_vetted = wish == TrustWish::Distrust || vetted_root(root.pem, context.machine.user()).is_ok();
        let is_done = |store: &&Store| is_vetted || stores::may_change(store);
        self.stores.iter().filter(is_done).try_for_each(|store| of_store(context, set, store, root, wish))?;
        let skipped = self.stores.iter().filter(|store| !is_done(store)).map(needs_root);
        self.skipped.replace(skipped.collect());
        Ok(())
    }

    /// Plans to take all roots of this user's authorities out, where no authority is left that could name its own.
    fn plan_orphans(&self, context: &Context, mut set: ChangeSet) -> Result<Planned<Option<String>>, CommandError> {
        self.plan(context, &mut set, Root { nickname: "", pem: "" }, TrustWish::Distrust)?;
        Ok(Planned { set, starts: false, about: None })
    }

    /// Stores that stay as they are, and programs that have to be restarted.
    pub(in crate::commands) fn notes(&self, context: &Context, set: &ChangeSet, ui: &mut Ui) {
        for left in self.left.iter().chain(&*self.skipped.borrow()) {
            ui.note(&format!("left as it is: {left}"));
        }
        let is_changed = set.trust.is_some() || set.steps.iter().any(|step| matches!(step.change, Change::Trust(_)));
        if !is_changed {
            return;
        }
        let running = stores::running(&context.machine);
        let named = running.iter().map(|(name, pids)| {
            let pids: Vec<String> = pids.iter().map(ToString::to_string).collect();
            format!("{name} (process {})", pids.join(", "))
        });
        let named: Vec<String> = named.collect();
        if named.is_empty() {
            ui.note("programs that were started before go by their old list until they are started again");
        } else {
            ui.note(&format!("start these again, they go by their old list until then: {}", named.join(", ")));
        }
    }
}

/// Puts the root certificate into the trust stores, or takes it out. Roots of earlier authorities
/// are taken out in either case: nothing of theirs is to be believed any more.
fn change_trust<'c>(
    context: &'c Context,
    which: StoresArg,
    ui: &mut Ui,
    wish: TrustWish,
) -> Result<Outcome<'c>, CommandError> {
    let machine = &context.machine;
    let is_wanted = wish == TrustWish::Trust;
    let mut chosen = Chosen::of(context, which, wish);
    if !chosen.has_system && chosen.stores.is_empty() {
        let none = CommandError::not_made("yandro found no trust store that it can change");
        let none = chosen.left.iter().cloned().fold(none, CommandError::hint);
        return Err(none.hint(format!("import the root certificate by hand: {}", machine.places.root_certificate())));
    }
    let plan = || {
        let mut set = ChangeSet::default();
        let Some(certificates) = observe::authority_certificates(machine)? else {
            // Roots of an authority that is gone are known by their names.
            return if is_wanted { Err(none_yet()) } else { chosen.plan_orphans(context, set) };
        };
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        let own = root_nickname(&authority);
        chosen.plan(context, &mut set, Root { nickname: &own, pem: &certificates.root }, wish)?;
        Ok(Planned { set, starts: false, about: Some(authority.title().to_owned()) })
    };
    let done = done!(apply(context, ui, plan, |_| Ok(())));
    if is_wanted && let Some(certificates) = observe::authority_certificates(machine)? {
        let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
        chosen.look_at_followed(context, &root_nickname(&authority), authority.root());
    }
    let data = Trust { trusted: is_wanted, changed: !done.set.is_empty(), left: chosen.left.clone() };
    Ok(Outcome::new(data, move |_, ui| {
        let where_ = chosen.in_words();
        let verb = match (is_wanted, done.set.is_empty()) {
            (true, false) => format!("is trusted by {where_} now"),
            (true, true) => format!("is trusted by {where_} already"),
            (false, false) => format!("is trusted by {where_} no more"),
            (false, true) => format!("was not trusted by {where_}"),
        };
        match &done.about {
            Some(title) => ui.say(&format!("{STRONG}{title}{STRONG:#} {verb}")),
            None => ui.say(&format!("No root of an authority of `{}` is trusted by {where_} now", machine.user())),
        }
        if !done.set.is_empty() {
            ui.say(&labelled(&summary(&done.set, &machine.places)));
        }
        chosen.notes(context, &done.set, ui);
        // Browsers go by the system's own store on Windows.
        let is_browsers = |store: &Store| matches!(store.kind, StoreKind::Nss | StoreKind::WindowsRoot);
        let has_browser = stores::find(machine).iter().any(is_browsers);
        if is_wanted && !has_browser && matches!(which, StoresArg::All | StoresArg::Browsers) {
            ui.note(&format!(
                "no browser's store was found: start the browser once and run this again, or import {} there",
                machine.places.root_certificate()
            ));
        }
    }))
}

data! {
    /// Data of `yandro authority trust` and `distrust`.
    struct Trust {
        /// Whether the stores trust the authority now.
        trusted: bool,
        changed: bool,
        /// The stores that were left as they are, and why.
        left: Vec<String>,
    }
}

impl Data for Trust {}

impl Chosen {
    fn in_words(&self) -> String {
        let has = |kinds: &[StoreKind]| self.stores.iter().any(|store| kinds.contains(&store.kind));
        let is_system = self.has_system || has(&[StoreKind::Keychain, StoreKind::WindowsRoot]);
        let parts =
            [("this system", is_system), ("your browsers", has(&[StoreKind::Nss])), ("Java", has(&[StoreKind::Java]))];
        let parts: Vec<&str> = parts.iter().filter(|(_, is_there)| *is_there).map(|(words, _)| *words).collect();
        match &parts[..] {
            [rest @ .., last] if !rest.is_empty() => format!("{} and {last}", rest.join(", ")),
            parts => parts.join(""),
        }
    }
}

/// The wanted change of the system's store: the root's file, and those of earlier roots.
fn of_system(context: &Context, set: &mut ChangeSet, root: Root<'_>, wish: TrustWish) -> Result<(), CommandError> {
    let machine = &context.machine;
    let Some(store) = trust::find(machine) else { return Ok(()) };
    let path = trust::file_of(machine, store, root.nickname);
    let others: Vec<Utf8PathBuf> =
        trust::own_files(machine, store).into_iter().filter(|other| *other != path).collect();
    if wish != TrustWish::Move || !others.is_empty() {
        let after = (wish != TrustWish::Distrust).then(|| root.pem.as_bytes().to_vec());
        set.file(Role::TrustStore, path.clone(), (files::read_if_there(&path)?, after), Access::Public);
    }
    for orphan in others {
        let text = files::read_if_there(&orphan)?;
        set.file(Role::TrustStore, orphan, (text, None::<Vec<u8>>), Access::Public);
    }
    Ok(())
}

/// The same in a store that a program keeps.
fn of_store(
    context: &Context,
    set: &mut ChangeSet,
    store: &Store,
    root: Root<'_>,
    wish: TrustWish,
) -> Result<(), CommandError> {
    let (machine, own) = (&context.machine, root.nickname);
    let held = stores::own_roots(machine, store.kind, &store.path).map_err(CommandError::not_made)?;
    let change = |nickname: &str, certificate: String, after: bool| {
        let (kind, path, title) = (store.kind, store.path.clone(), store.title.clone());
        let nickname = nickname.to_owned();
        let change = TrustChange { kind, store: path, title, nickname, certificate, before: !after, after };
        Step { role: Role::TrustStore, change: Change::Trust(change) }
    };
    let former = stores::former_roots(machine, store.kind, &store.path, own).map_err(CommandError::not_made)?;
    for (nickname, certificate) in &former {
        set.steps.push(change(nickname, certificate.clone(), false));
    }
    let is_trusted = held.iter().any(|nickname| nickname == own);
    match wish {
        TrustWish::Trust | TrustWish::Move if !is_trusted && (wish == TrustWish::Trust || !former.is_empty()) => {
            if store.kind == StoreKind::Nss && !store.path.is_dir() {
                set.folder(Role::TrustStore, store.path.clone(), Access::Private);
            }
            set.steps.push(change(own, root.pem.to_owned(), true));
        }
        TrustWish::Distrust if is_trusted => {
            let root = stores::certificate(machine, store.kind, &store.path, own).map_err(CommandError::not_made)?;
            set.steps.push(change(own, root, false));
        }
        _ => {}
    }
    Ok(())
}

fn needs_root(store: &Store) -> String {
    let (title, path) = (&store.title, &store.path);
    if store.kind == StoreKind::WindowsRoot {
        return format!("{title}: only an administrator may change {path}; yours is enough for your own programs");
    }
    format!(
        "{title}: root is needed to change {path}; run it once more for this one, with `sudo` before it and `--store java` behind it"
    )
}

fn no_program(kind: StoreKind) -> &'static str {
    match kind {
        StoreKind::Nss => {
            "it is kept by the program `certutil`: install it (`apt install libnss3-tools`), then run `yandro authority trust` again"
        }
        StoreKind::Java => {
            "it is kept by the program `keytool`, which this runtime has not: install a JDK, then run `yandro authority trust` again"
        }
        StoreKind::Keychain | StoreKind::WindowsRoot => "the system's program that keeps it isn't there",
    }
}
