//! Why root plans nothing on a user's word.

use camino::Utf8PathBuf;
use yandro_core::{ListError, OTHERS, PlanError, PlanFailure, ServerId};

use crate::observe::ObserveError;
use crate::os::UserId;

/// Why root plans nothing for a user.
#[derive(Debug, thiserror::Error)]
pub(super) enum Unplanned {
    #[error("{0} does not belong to the user who asks")]
    ForeignFolder(Utf8PathBuf),
    #[error("no user has the number {0}")]
    NoUser(UserId),
    #[error("`{OTHERS}` can't be the name of a site")]
    SharedName,
    #[error(transparent)]
    List(#[from] ListError),
    #[error(transparent)]
    Observe(#[from] ObserveError),
    #[error(transparent)]
    Plan(#[from] PlanFailure),
}

/// The reason, as the user sees it: their own settings are none of root's.
pub(super) fn in_words(error: &Unplanned) -> String {
    match error {
        Unplanned::Plan(PlanFailure { error: plan, .. }) => match &**plan {
            PlanError::ServerMissing(ServerId::Named(name)) => format!(
                "it is a file of root's, and root doesn't know the server `{name}`, which only your own settings name"
            ),
            _ => error.to_string(),
        },
        _ => error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use yandro_core::{PlanError, SiteList};

    use super::*;

    #[test]
    fn every_reason_for_no_plan_reads_as_written_here() {
        let plan = PlanFailure { site: None, error: Box::new(PlanError::HostsMissing("/etc/hosts".into())) };
        let all = [
            Unplanned::ForeignFolder("/home/bob".into()),
            Unplanned::NoUser(4711),
            Unplanned::SharedName,
            SiteList::parse("site = 1\n", None).unwrap_err().into(),
            ObserveError::Passphrase { folder: "/home/ada/authority".into() }.into(),
            plan.into(),
        ];
        for reason in &all {
            match reason {
                Unplanned::ForeignFolder(_)
                | Unplanned::NoUser(_)
                | Unplanned::SharedName
                | Unplanned::List(_)
                | Unplanned::Observe(_)
                | Unplanned::Plan(_) => {}
            }
        }
        insta::assert_snapshot!(all.map(|reason| reason.to_string()).join("\n"), @"
        /home/bob does not belong to the user who asks
        no user has the number 4711
        `0.invalid` can't be the name of a site
        each site needs its own `[[site]]`
          1 | site = 1
            |        ^
        that is not the passphrase of the authority in /home/ada/authority
        the hosts file `/etc/hosts` is missing
        ");
    }
}
