//! Options of a command that change its plan.

use std::collections::{BTreeMap, BTreeSet};

use zeroize::Zeroizing;

use crate::adopt::Brought;
use crate::hosts::TakeOver;
use crate::name::HostName;
use crate::pki::RENEW_DAYS;

/// The user's options, apart from the state of the machine.
#[derive(Clone, Debug)]
pub struct Wishes {
    /// Whether conflicting lines of the user are commented out.
    pub take_over: TakeOver,
    /// Sites whose key doesn't belong to their certificate: both are issued again.
    pub suspect: BTreeSet<HostName>,
    /// Sites whose hand-edited lines are overwritten; added lines stay.
    pub put_back: BTreeSet<HostName>,
    /// The lines of sites that are taken over from a person's own virtual hosts.
    pub adopted: BTreeMap<HostName, Brought>,
    /// Whether a line that was edited by hand stays even where the site list changed what it says.
    pub keeps_edits: bool,
    /// Whether the responder may be put into the list of name servers, where there is no other way.
    pub name_servers: bool,
    /// Days before its end at which a certificate is renewed.
    pub renew_within: i64,
    /// The passphrase that a new authority's key goes behind, and that opens the present one's.
    pub passphrase: Option<Zeroizing<String>>,
}

impl Default for Wishes {
    fn default() -> Self {
        Self {
            take_over: TakeOver::No,
            suspect: BTreeSet::new(),
            put_back: BTreeSet::new(),
            adopted: BTreeMap::new(),
            keeps_edits: false,
            name_servers: false,
            renew_within: RENEW_DAYS,
            passphrase: None,
        }
    }
}

impl Wishes {
    /// The passphrase of the authority's key, if it was given.
    pub(super) fn passphrase(&self) -> Option<&str> {
        self.passphrase.as_deref().map(String::as_str)
    }
}
