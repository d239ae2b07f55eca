//! The machine, its user, and the paths of all files.

use std::ffi::OsString;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{ListId, Places, System};

use crate::caller;
use crate::confine;
use crate::os::{self, Owner, UserId};

/// The environment of one run, captured once at the start.
#[derive(Clone, Debug)]
pub struct Environment {
    /// The folder that replaces `/`; `/` itself for the real machine.
    pub sysroot: Utf8PathBuf,
    /// The home folder, whatever the variable for it holds (`HOME`, `USERPROFILE`).
    pub home: Option<OsString>,
    /// The folder of programs' settings (`XDG_CONFIG_HOME`, `APPDATA`), if it is set and absolute.
    pub config_home: Option<Utf8PathBuf>,
    /// The folder of programs' data (`XDG_DATA_HOME`, `LOCALAPPDATA`), if it is set and absolute.
    pub data_home: Option<Utf8PathBuf>,
    /// `$SUDO_UID`, if it is set.
    pub sudo_uid: Option<UserId>,
}

/// The machine that a run works on.
#[derive(Clone, Debug)]
pub struct Machine {
    /// Paths of all files.
    pub places: Places,
    /// The operating system, real or below the sysroot.
    pub system: System,
    /// `user@machine`.
    pub owner: String,
    /// The user who will own the site list, the authority and the history, if not the
    /// user that runs this: under sudo, the one who called it.
    pub(crate) keeper: Option<Owner>,
}

/// Why a run can't begin.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MachineError {
    /// The home folder can't be determined.
    #[error("the home folder for the site list is unknown: set {}", os::HOME_VARIABLES[0])]
    Homeless,
    /// The home folder is of no use.
    #[error("{} is `{home}`, which {fault}: set it to the absolute path of your home folder", os::HOME_VARIABLES[0])]
    Home {
        /// Its value.
        home: String,
        /// The fault.
        fault: &'static str,
    },
    /// The user who called sudo is unknown to this system.
    #[error(
        "sudo was called by the user with the number {0}, and the system knows no such user: run yandro as that user, without sudo"
    )]
    Caller(UserId),
    /// The sysroot isn't there.
    #[error("the sysroot `{0}` is not a folder: make it first, with an `etc/hosts` in it")]
    Sysroot(Utf8PathBuf),
}

impl Environment {
    /// The environment of this process, with another sysroot if one is given.
    pub fn of_process(sysroot: Option<Utf8PathBuf>) -> Self {
        let absolute = |name| std::env::var(name).ok().map(Utf8PathBuf::from).filter(|path| path.is_absolute());
        let [home, config, data] = os::HOME_VARIABLES;
        Self {
            sysroot: sysroot.unwrap_or_else(|| os::root().to_owned()),
            home: std::env::var_os(home),
            config_home: absolute(config),
            data_home: absolute(data),
            sudo_uid: std::env::var(caller::VARIABLE).ok().and_then(|uid| uid.parse().ok()),
        }
    }
}

impl Machine {
    /// Finds out where everything is.
    ///
    /// # Errors
    /// When there is no home folder, or the sysroot is not a folder.
    pub fn new(environment: &Environment) -> Result<Self, MachineError> {
        let sysroot = os::real_path(&environment.sysroot)
            .ok()
            .filter(|path| path.is_dir())
            .ok_or_else(|| MachineError::Sysroot(environment.sysroot.clone()))?;
        confine::confine(&sysroot);
        let uid = os::this_user();
        let caller = match environment.sudo_uid {
            Some(caller) if os::is_root() => Some(os::account(caller).ok_or(MachineError::Caller(caller))?),
            _ => None,
        };
        let (home, config_home, data_home) = if let Some(caller) = &caller {
            (caller.home.clone(), None, None)
        } else {
            let home = environment.home.as_ref().filter(|home| !home.is_empty()).map(checked_home).transpose()?;
            (home, environment.config_home.clone(), environment.data_home.clone())
        };
        let home = home.or_else(|| os::account(uid)?.home);
        let below_home = |below: &str| home.as_ref().map(|home| home.join(below)).ok_or(MachineError::Homeless);
        let config = config_home.map_or_else(|| below_home(os::BELOW_HOME[0]), Ok)?.join("yandro");
        let data = data_home.map_or_else(|| below_home(os::BELOW_HOME[1]), Ok)?.join("yandro");
        let name = match &caller {
            Some(caller) => caller.name.clone(),
            None => os::account(uid).map_or_else(|| uid.to_string(), |user| user.name),
        };
        let system = System::of_tree(|path| resolved(&sysroot, path).exists());
        let home = home.as_deref().ok_or(MachineError::Homeless)?;
        let (config, data) = (resolved(&sysroot, config.as_str()), resolved(&sysroot, data.as_str()));
        if let Some(caller) = &caller {
            caller::remember(caller.into(), [config.clone(), data.clone()]);
        }
        Ok(Self {
            system,
            places: Places {
                hosts: below(&sysroot, system.hosts_file()),
                list: ListId::new(&name, &inside(&sysroot, &config).join("sites.toml")),
                home: resolved(&sysroot, home.as_str()),
                config,
                data,
                sysroot,
            },
            owner: format!("{name}@{}", os::host_name()),
            keeper: caller.as_ref().map(Owner::from),
        })
    }

    /// Whether this runs as root.
    pub fn is_root(&self) -> bool {
        os::is_root()
    }

    /// The user who called this by sudo, if one did.
    pub fn sudo_caller(&self) -> Option<UserId> {
        self.keeper.map(|keeper| keeper.user)
    }

    /// The number of the user whose rights this process has, as programs take it.
    pub fn user_id(&self) -> UserId {
        os::this_user()
    }

    /// The name of the user whose sites these are.
    pub fn user(&self) -> &str {
        self.owner.split('@').next().unwrap_or_default()
    }

    /// The real machine without anybody's settings or sites.
    pub(crate) fn bare() -> Self {
        let nowhere = Utf8PathBuf::from("/nonexistent");
        let system = System::of_tree(|path| Utf8Path::new(path).exists());
        Self {
            system,
            places: Places {
                sysroot: os::root().into(),
                hosts: system.hosts_file().into(),
                list: ListId::new("", &nowhere),
                home: nowhere.clone(),
                config: nowhere.clone(),
                data: nowhere,
            },
            owner: String::new(),
            keeper: None,
        }
    }

    /// The user's home; under sudo that of the one who called.
    pub fn home(&self) -> &Utf8Path {
        &self.places.home
    }

    /// Whether this is the real machine and no sysroot.
    pub fn is_real(&self) -> bool {
        self.places.sysroot == os::root()
    }

    /// An absolute path below the sysroot.
    pub fn path(&self, absolute: &str) -> Utf8PathBuf {
        below(&self.places.sysroot, absolute)
    }

    /// An absolute path below the sysroot, through all links within that.
    pub fn real_path(&self, absolute: &str) -> Utf8PathBuf {
        resolved(&self.places.sysroot, absolute)
    }
}

/// As [`below`], through all links; unchanged if they lead in a circle.
fn resolved(sysroot: &Utf8Path, absolute: &str) -> Utf8PathBuf {
    let path = below(sysroot, absolute);
    confine::real(&path).unwrap_or(path)
}

fn below(sysroot: &Utf8Path, absolute: &str) -> Utf8PathBuf {
    // A path in the sysroot already stays where it is.
    if sysroot != os::root() && Utf8Path::new(absolute).starts_with(sysroot) {
        return absolute.into();
    }
    if sysroot == os::root() {
        // With the separators of this system; a path on another drive stays there.
        return sysroot.join(absolute.trim_start_matches('/')).components().collect();
    }
    // All drives share one sysroot.
    let below = Utf8Path::new(absolute)
        .components()
        .filter(|part| !matches!(part, camino::Utf8Component::Prefix(_) | camino::Utf8Component::RootDir));
    sysroot.components().chain(below).collect()
}

/// A home folder that the environment names.
fn checked_home(home: &OsString) -> Result<Utf8PathBuf, MachineError> {
    let refused = |fault| MachineError::Home { home: home.to_string_lossy().escape_debug().to_string(), fault };
    let path = home.to_str().map(Utf8PathBuf::from).ok_or_else(|| refused("is not UTF-8"))?;
    if path.is_absolute() { Ok(path) } else { Err(refused("is not an absolute path")) }
}

/// A path as it is within the sysroot.
fn inside(sysroot: &Utf8Path, path: &Utf8Path) -> Utf8PathBuf {
    match path.strip_prefix(sysroot) {
        Ok(_) if sysroot == os::root() => path.to_owned(),
        Ok(rest) => Utf8Path::new("/").join(rest),
        Err(_) => path.to_owned(),
    }
}

/// Name and version of the operating system.
pub fn system_description() -> String {
    os::description()
}

/// The name of a user of the machine.
pub(crate) fn user_name(uid: UserId) -> Option<String> {
    os::account(uid).map(|user| user.name)
}
