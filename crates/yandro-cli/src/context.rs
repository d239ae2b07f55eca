//! The shared input of all commands, captured once.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::env;
use std::net::IpAddr;

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use yandro_core::{DEFAULT_ADDRESS, HostName, ServerId, ServerKind, Site, SiteList};
use yandro_machine::{
    Control, Environment, Found, Keys, Lock, Machine, Observer, Present, Registry, ServerControl, Settings, changes,
    network, observe, settings,
};

use crate::error::{CommandError, no_server};
use crate::global::Global;
use crate::passphrase;
use crate::sudo::Sudo;
use crate::view::{Ui, on_wait};

/// The machine, the settings and the options of one run.
#[derive(Debug)]
pub(crate) struct Context {
    pub(crate) machine: Machine,
    /// The servers that the settings name.
    pub(crate) registry: Registry,
    /// Passphrase of the authority's key.
    pub(crate) keys: Keys,
    pub(crate) settings: Settings,
    pub(crate) preview: bool,
    /// Whether only what was asked for is printed.
    pub(crate) is_quiet: bool,
    /// Whether the progress of long work is shown on a terminal.
    pub(crate) shows_progress: bool,
    no_wait: bool,
    /// The servers, once they were looked for.
    present: OnceCell<Present>,
    applied: OnceCell<Vec<Site>>,
    /// Their control, once it was asked for.
    controls: RefCell<BTreeMap<ServerId, Option<Control>>>,
    /// The current folder.
    pub(crate) current: Utf8PathBuf,
    /// The file with the passphrase of the authority's key, absolute, if one was named.
    pub(crate) passphrase_file: Option<Utf8PathBuf>,
    /// The command, as typed.
    pub(crate) command: String,
}

fn current_folder() -> Result<Utf8PathBuf, CommandError> {
    let path = env::current_dir().ok().and_then(|path| Utf8PathBuf::from_path_buf(path).ok());
    path.ok_or_else(|| CommandError::usage("the current folder is gone, or its path is no UTF-8"))
}

/// The control of a server, with its kind.
pub(crate) type NamedControl = (ServerId, Box<dyn ServerControl>);

impl Context {
    /// Reads the environment, finds the machine, and rolls back what an earlier
    /// command left unfinished.
    pub(crate) fn new(global: &Global, ui: &mut Ui) -> Result<Self, CommandError> {
        let context = Self::at(global, &Environment::of_process(global.sysroot.clone()))?;
        if changes::is_unfinished(&context.machine) {
            // While another command is at work, nothing is unfinished.
            if let Ok(lock) = Lock::take(&context.machine, || false) {
                context.recover(&lock, ui)?;
            }
        }
        Ok(context)
    }

    /// A context for another place, as the demo needs it.
    pub(crate) fn at(global: &Global, environment: &Environment) -> Result<Self, CommandError> {
        let machine = Machine::new(environment)?;
        let settings = settings::read(&machine)?;
        let registry = Registry::new(settings.servers.clone(), settings::system_servers(&machine)?);
        let keys = Keys::new(!global.preview);
        if let Some(file) = &global.passphrase_file {
            keys.give_passphrase(passphrase::of_file(file)?);
        }
        let current = current_folder()?;
        let command = env::args().skip(1).collect::<Vec<_>>().join(" ");
        let command = format!("yandro {command}");
        Ok(Self {
            passphrase_file: global.passphrase_file.as_ref().map(|file| current.join(file)),
            machine,
            registry,
            keys,
            settings,
            preview: global.preview,
            is_quiet: global.quiet,
            shows_progress: !global.quiet && !global.plain_output,
            no_wait: global.no_wait,
            present: OnceCell::new(),
            applied: OnceCell::new(),
            controls: RefCell::default(),
            current,
            command,
        })
    }

    /// The lock, before anything is read that a change depends on.
    pub(crate) fn lock(&self, ui: &mut Ui) -> Result<Lock, CommandError> {
        let lock = Lock::take(&self.machine, || {
            if !self.no_wait {
                ui.note("waiting for another yandro to finish");
            }
            !self.no_wait
        })?;
        if let Some(why) = lock.missing() {
            ui.note(&format!(
                "other users' yandro can change this machine at the same time, because its lock can't be used: {why}"
            ));
        }
        // The one that held the lock may have been killed while we waited.
        if changes::is_unfinished(&self.machine) {
            self.recover(&lock, ui)?;
        }
        Ok(lock)
    }

    /// Rolls back what an earlier command left unfinished, and says so.
    fn recover(&self, lock: &Lock, ui: &mut Ui) -> Result<(), CommandError> {
        let controls = self.controls();
        let controls: Vec<_> = controls.iter().map(|(id, control)| (*id, control.as_ref())).collect();
        let sudo = Sudo::new(&self.machine, ui.is_quiet());
        let recovery = changes::recover(&self.machine, lock, &controls, &sudo, &on_wait(ui.is_quiet()))?;
        for recovered in recovery.recovered {
            let (command, at) = (&recovered.command, &recovered.at);
            ui.note(&format!("an earlier command was interrupted and is rolled back: `{command}` of {at}"));
            for note in recovered.servers.notes() {
                ui.note(&note);
            }
        }
        for (path, is_complete) in recovery.damaged {
            ui.note(&damaged(&path, is_complete));
        }
        Ok(())
    }

    /// A path that was given, from the current folder on and without `.` in it.
    pub(crate) fn given(&self, path: &Utf8Path) -> Utf8PathBuf {
        self.current.join(path).components().filter(|part| part.as_str() != ".").collect()
    }

    /// The site list's text and sites.
    pub(crate) fn list(&self) -> Result<(Option<String>, SiteList), CommandError> {
        Ok(observe::site_list(&self.machine)?)
    }

    /// The sites of the list that are in use.
    pub(crate) fn enabled(&self) -> Result<SiteList, CommandError> {
        Ok(self.list()?.1.enabled())
    }

    /// The control of a server of the real machine; within a sysroot no server is touched.
    fn control(&self, server: ServerId) -> Option<Box<dyn ServerControl>> {
        if !self.machine.is_real() {
            return None;
        }
        let of = || Control::of(&self.machine, self.server(server)?);
        self.controls.borrow_mut().entry(server).or_insert_with(of).clone().map(|own| Box::new(own) as _)
    }

    /// The servers of the machine, and those that the person named: as they were when first asked
    /// for.
    pub(crate) fn present(&self) -> &Present {
        self.present.get_or_init(|| self.look_for_servers())
    }

    /// The same as they are now.
    pub(crate) fn look_for_servers(&self) -> Present {
        Present::look(&self.machine, &self.registry, &self.settings.built_in)
    }

    pub(crate) fn server(&self, id: ServerId) -> Option<&Found> {
        self.present().get(id)
    }

    /// Reads what planning needs to know.
    pub(crate) fn observer(&self) -> Observer<'_> {
        Observer { machine: &self.machine, servers: &self.registry, keys: &self.keys }
    }

    /// The control of every server of the real machine.
    fn controls(&self) -> Vec<NamedControl> {
        self.present().all().iter().filter_map(|found| Some((found.id, self.control(found.id)?))).collect()
    }

    /// Whether a server runs.
    pub(crate) fn runs(&self, server: ServerId) -> bool {
        self.control(server).is_some_and(|control| control.is_running())
    }

    /// The control of the servers that a change set reloads; none within a sysroot.
    pub(crate) fn controls_of(&self, servers: &BTreeSet<ServerId>) -> Result<Vec<NamedControl>, CommandError> {
        if !self.machine.is_real() {
            return Ok(Vec::new());
        }
        let of = |server: &ServerId| {
            let control = self.control(*server).ok_or_else(|| {
                CommandError::not_made(format!("the configuration of {server} is there, but not its program"))
                    .hint("install it again, or name it: yandro servers add NAME --config FILE --program PROGRAM")
            });
            Ok((*server, control?))
        };
        servers.iter().map(of).collect()
    }

    /// Whether an address is this machine's; of a sysroot's only loopback is known.
    pub(crate) fn is_own(&self, address: IpAddr) -> bool {
        address.is_loopback() || self.machine.is_real() && network::is_own(address)
    }

    /// The present or wanted server of a site: one on another machine, if its address is not an
    /// address of this machine.
    pub(crate) fn server_of(&self, wanted: Option<ServerId>, address: IpAddr) -> Result<ServerId, CommandError> {
        match wanted {
            Some(server) => Ok(server),
            None if !self.is_own(address) => Ok(ServerId::Elsewhere),
            None => self.usual_server(),
        }
    }

    /// The server for sites that name none: the first that the person named, or the one that is
    /// there; of several the first that runs, or the usual choice if none does.
    fn usual_server(&self) -> Result<ServerId, CommandError> {
        if let Some(named) = self.registry.named().first() {
            let id = ServerId::Named(named.name);
            // If the chosen server is missing, no other one replaces it.
            return self.server(id).map(|found| found.id).ok_or_else(|| self.no_server(id));
        }
        let there: Vec<ServerId> =
            ServerKind::ALL.iter().map(|kind| ServerId::Found(*kind)).filter(|id| self.server(*id).is_some()).collect();
        let running = if there.len() > 1 { there.iter().find(|id| self.runs(**id)) } else { None };
        match running.or(there.first()) {
            Some(id) => Ok(*id),
            None => Err(CommandError::not_made("no web server was found").hint(no_server())),
        }
    }

    /// The server of a site of the list: the one that it names, that it was applied to, or that sites which name none
    /// would be applied to.
    pub(crate) fn server_of_site(&self, site: &Site) -> ServerId {
        let applied = || self.applied().iter().find(|own| own.name == site.name)?.server;
        let usual = || self.server_of(None, site.address).ok();
        site.server.or_else(applied).or_else(usual).unwrap_or(ServerId::BuiltIn)
    }

    /// A site of the list with its server.
    pub(crate) fn with_server(&self, site: &Site) -> Site {
        Site { server: Some(self.server_of_site(site)), ..site.clone() }
    }

    /// The sites as they were last applied, when they were first asked for.
    fn applied(&self) -> &[Site] {
        self.applied.get_or_init(|| {
            let text =
                yandro_machine::files::read_if_there(&self.machine.places.applied()).ok().flatten().unwrap_or_default();
            let list = SiteList::parse(&String::from_utf8_lossy(&text), None);
            list.map(|list| list.sites).unwrap_or_default()
        })
    }

    /// The server of sites that name none: asked for only where one leaves the choice open.
    pub(crate) fn default_server(&self, list: &SiteList) -> Result<ServerId, CommandError> {
        if list.sites.iter().all(|site| site.server.is_some()) {
            return Ok(ServerId::BuiltIn);
        }
        self.server_of(None, DEFAULT_ADDRESS)
    }

    /// The error for a server that doesn't exist.
    pub(crate) fn no_server(&self, id: ServerId) -> CommandError {
        match self.registry.named().iter().find(|named| ServerId::Named(named.name) == id) {
            Some(named) => CommandError::not_made(format!(
                "the server `{}` is named in {}, and {} is not there",
                named.name,
                self.machine.places.settings(),
                named.config
            ))
            .hint(format!("bring it back, or take the server out: yandro servers drop {}", named.name)),
            None => CommandError::usage(format!("server `{}` doesn't exist", id.word()))
                .hint("see which there are: yandro servers; or name one: yandro servers add --help"),
        }
    }

    /// The URL of a site at one of its names.
    pub(crate) fn url_of(&self, site: &Site, name: &HostName) -> String {
        let (http, https) = self.present().ports_of(site, self.server_of_site(site));
        match (site.https.is_on(), http, https) {
            (true, _, 443) => format!("https://{name}/"),
            (true, _, port) => format!("https://{name}:{port}/"),
            (false, 80, _) => format!("http://{name}/"),
            (false, port, _) => format!("http://{name}:{port}/"),
        }
    }

    pub(crate) fn url(&self, site: &Site) -> String {
        self.url_of(site, &site.name)
    }
}

/// The note about a record that can't be read.
fn damaged(path: &Utf8Path, is_complete: bool) -> String {
    if is_complete {
        return format!(
            "the record of an earlier change is damaged and was set aside as {path}; the change is complete"
        );
    }
    format!(
        "the record of an interrupted change is damaged and was set aside as {path}, so that change may be half done: see what differs from your site list with `yandro settle --preview`, then run `yandro settle`"
    )
}

/// The time of this run.
pub(crate) fn now() -> OffsetDateTime {
    OffsetDateTime::now_utc()
}

/// A time for the record, RFC 3339.
pub(crate) fn stamp(moment: OffsetDateTime) -> String {
    moment.replace_nanosecond(0).unwrap_or(moment).format(&Rfc3339).unwrap_or_default()
}
