//! PHP for a site: `--php`, `--php-as-owner`.

use yandro_core::{FastCgi, ServerId, SiteOption};
use yandro_machine::{changes, php};

use crate::args::{MapArgs, is_php_version};
use crate::context::Context;
use crate::error::CommandError;
use crate::sudo::Sudo;
use crate::view::on_wait;

/// An option and its values.
type Given = (&'static SiteOption, Vec<String>);

/// The options as they are given, with versions of PHP resolved: that of `--php` is the version of the site's own pool
/// where it is to have one, and the address of the shared pool where not; the built-in server runs its own.
pub(super) fn resolved(context: &Context, options: &[Given], server: ServerId) -> Result<Vec<Given>, CommandError> {
    let value = |key: &str| {
        let given = options.iter().find(|(option, _)| option.key == key);
        given.and_then(|(_, values)| values.last()).map(String::as_str)
    };
    let own = value("php-as-owner").filter(|own| *own != "off");
    let mut all = options.to_vec();
    let Some(own) = own else {
        for (_, values) in all.iter_mut().filter(|(option, _)| option.key == "php") {
            for value in values.iter_mut().filter(|value| is_php_version(value)) {
                *value = of_version(context, value, server)?;
            }
        }
        return Ok(all);
    };
    if let Some(php) = value("php") {
        let is_same = own.is_empty() || php.is_empty() || own == php;
        if !is_same || !php.is_empty() && !is_php_version(php) {
            return Err(CommandError::usage(format!(
                "`--php={php}` names another PHP than the pool of `--php-as-owner`"
            ))
            .hint("give a version only, or none: --php-as-owner, --php-as-owner=8.2"));
        }
        all.retain(|(option, _)| option.key != "php");
        for (_, values) in all.iter_mut().filter(|(option, _)| option.key == "php-as-owner" && !php.is_empty()) {
            *values = vec![php.to_owned()];
        }
    }
    Ok(all)
}

/// Whether PHP is to be found.
pub(super) fn is_asked(args: &MapArgs) -> bool {
    let given =
        |key: &str, value: &str| args.options.0.iter().any(|(own, values)| own.key == key && values == &[value]);
    given("php", "") || given("php-as-owner", "off")
}

/// Starts the php-fpm of a version, as a stopped web server is started; with `--preview` it is taken as running.
fn started(context: &Context, version: &str, start: &str) -> Result<(), CommandError> {
    if context.preview {
        return Ok(());
    }
    let not_running = |why: String| {
        CommandError::not_made(format!("the php-fpm of PHP {version} doesn't run{why}"))
            .hint(format!("start it: {start}"))
    };
    if !context.machine.is_real() {
        return Err(not_running(String::new()));
    }
    let sudo = Sudo::new(&context.machine, context.is_quiet);
    changes::start_php(&context.machine, &sudo, &on_wait(context.is_quiet), version)
        .map_err(|error| not_running(format!(": {error}")))
}

/// The address of the first php-fpm that is installed and doesn't run, once it was started.
pub(super) fn started_usual(context: &Context) -> Result<Option<FastCgi>, CommandError> {
    let all = php::installed(&context.machine);
    let stopped = all.iter().find_map(|php| Some((&php.version, php.start.as_ref()?, php.address.as_ref()?)));
    let Some((version, start, address)) = stopped else { return Ok(None) };
    started(context, version, start)?;
    Ok(Some(address.clone()))
}

/// The address of the php-fpm of a version.
fn of_version(context: &Context, version: &str, server: ServerId) -> Result<String, CommandError> {
    let all = php::installed(&context.machine);
    if server == ServerId::BuiltIn
        && let Some(address) = php::own_address(&context.machine, Some(version))
    {
        return Ok(address.to_string());
    }
    let own: Vec<_> = all.iter().filter(|php| php.version == version).collect();
    if let Some(address) = own.iter().filter(|php| php.listens).find_map(|php| php.address.as_ref()) {
        return Ok(address.to_string());
    }
    if let Some((start, address)) = own.iter().find_map(|php| Some((php.start.as_ref()?, php.address.as_ref()?))) {
        started(context, version, start)?;
        return Ok(address.to_string());
    }
    let mut others: Vec<&str> = all.iter().map(|php| &*php.version).filter(|other| !other.is_empty()).collect();
    others.dedup();
    let error = CommandError::not_made(format!("no php-fpm of PHP {version} is here"));
    let error = if others.is_empty() {
        error
    } else {
        error.hint(format!("take one that is: --php={}", others.join(", --php=")))
    };
    Err(error.hint("see which there are: yandro servers").hint("install it, or name its socket: --php=SOCKET"))
}
