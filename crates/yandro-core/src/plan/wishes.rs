//! What a command is to do beyond the usual.

use std::collections::BTreeSet;

use zeroize::Zeroizing;

use crate::hosts::TakeOver;
use crate::name::HostName;
use crate::pki::RENEW_DAYS;

/// What the person asked for, apart from what the machine is like.
#[derive(Clone, Debug)]
pub struct Wishes {
    /// Whether lines of the person's own that stand in the way are commented out.
    pub take_over: TakeOver,
    /// Sites whose key is not their certificate's: both are made anew.
    pub suspect: BTreeSet<HostName>,
    /// Sites whose lines are put back where they were edited by hand; what was added stays.
    pub put_back: BTreeSet<HostName>,
    /// How many days before its end a certificate is made anew.
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
