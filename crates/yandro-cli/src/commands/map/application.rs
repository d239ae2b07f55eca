//! What `yandro map` does for the application besides: a database of its own, and its new address.

use yandro_core::{ChangeSet, Content, Site};

use super::{desired, no_name, requests, run_with};
use crate::args::{MapArgs, ReaddressArgs};
use crate::commands::database::{self, Configured, Made, Wanted};
use crate::commands::readdress;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Outcome, Ui};

/// Maps the site, with a database that is made first and named by the application's configuration before the proof: if
/// one of both fails, neither is there. Then its old addresses are replaced.
pub(super) fn run<'c>(context: &'c Context, args: &'c MapArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (_, list) = context.list()?;
    let request = requests(context, args)?;
    let site = desired(context, args, request.first().ok_or_else(no_name)?, &list)?;
    if context.preview {
        let then = not_shown(args, &site);
        return Ok(run_with(context, args, ui, || Ok(()), |_| {})?.then(move |ui| ui.note(&then)));
    }
    let made = args.database.as_ref().map(|which| make(context, args, &site, which, ui)).transpose()?;
    let besides = |set: &mut ChangeSet| {
        if let Some((_, configured)) = &made {
            configured.add_to(set);
        }
    };
    let mapped = run_with(context, args, ui, || Ok(()), besides);
    let mut outcome = mapped.inspect_err(|_| {
        if let Some((made, _)) = &made {
            made.take_back(context);
        }
    })?;
    if let Some((made, configured)) = made {
        outcome = outcome.and("database", database::kept_and_told(context, &site.name, made, configured)?);
    }
    if args.readdress.is_empty() {
        return Ok(outcome);
    }
    let old = ReaddressArgs {
        name: site.name.to_string(),
        from: args.readdress.clone(),
        folder: None,
        database: Vec::new(),
        no_database: false,
        yes: args.accept,
    };
    match readdress::run(context, &old, ui) {
        Ok(readdressed) => Ok(outcome.and("readdress", readdressed)),
        Err(mut error) => {
            // The site is mapped all the same.
            outcome.show(ui);
            if error.code == "consent-needed" {
                let from: String = old.from.iter().map(|from| format!(" --from {from}")).collect();
                error.hints = vec![format!("to change them: yandro readdress {}{from} --yes", old.name)];
            }
            Err(error)
        }
    }
}

/// Makes the database, and asks whether the application's configuration is to name it.
fn make(
    context: &Context,
    args: &MapArgs,
    site: &Site,
    which: &str,
    ui: &Ui,
) -> Result<(Made, Configured), CommandError> {
    let Content::Folder { folder, .. } = &site.content else {
        return Err(CommandError::usage("a database is made for a folder, and this is a running server")
            .hint("map the application's folder, or make the database by hand"));
    };
    let folder = context.machine.path(folder.as_str());
    if !folder.is_dir() {
        return Err(CommandError::usage(format!("no such folder: `{folder}`")).hint("map a folder that is there"));
    }
    let root = site.document_root().map(|root| context.machine.path(root.as_str()));
    if let Some(made) = Made::before(context, &site.name)?.filter(|_| args.new_database.import.is_none()) {
        let configured = Configured::of(&folder, &made, args.accept);
        return Ok((made, configured));
    }
    let wanted = Wanted::of(context, &site.name, (&folder, root.as_deref()), Some(which), &args.new_database)?;
    let made = wanted.make(context, ui.is_quiet())?;
    let configured = Configured::of(&folder, &made, args.accept);
    Ok((made, configured))
}

/// What a preview doesn't show: it depends on what is mapped.
fn not_shown(args: &MapArgs, site: &Site) -> String {
    let name = &site.name;
    let made = args.database.as_ref().map(|which| {
        let which = if which.is_empty() { String::new() } else { format!(" {which}") };
        format!("the database would be made (yandro database {name} create{which} --preview)")
    });
    let from = args.readdress.iter().map(|from| format!(" --from {from}")).collect::<String>();
    let replaced = (!from.is_empty())
        .then(|| format!("the old addresses would be replaced (yandro readdress {name}{from} --preview)"));
    let both: Vec<String> = made.into_iter().chain(replaced).collect();
    format!("then {}; those previews need the mapped site", both.join(", and "))
}
