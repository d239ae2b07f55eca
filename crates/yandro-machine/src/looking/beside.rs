//! Facts beside the answers of sites, gathered while the sites are asked.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::task::JoinHandle;
use yandro_core::{Authority, Beside, Configured, Expected, FileFaults, PortHolder, ServerId, StoreStanding, Timed};

use super::error::LookError;
use super::scene::Scene;
use crate::circumstances::{self, OfServer, settings};
use crate::ports::{self, Holder};
use crate::servers::Found;

/// Facts that are being gathered on separate threads.
pub(super) struct Beginning {
    servers: JoinHandle<BTreeMap<ServerId, OfServer>>,
    holders: JoinHandle<(Vec<Holder>, Duration)>,
    stores: Option<JoinHandle<Timed<Vec<StoreStanding>>>>,
}

/// The facts: for each site in the order of the sites, and for each server.
pub(super) struct Around {
    pub(super) beside: Vec<Beside>,
    pub(super) servers: BTreeMap<ServerId, OfServer>,
}

impl Beginning {
    /// Begins to look.
    pub(super) fn begin(scene: Scene<'_>, expected: &[Vec<Arc<Expected>>], authority: Option<Authority>) -> Self {
        let is_real = scene.machine.is_real();
        let mut wanted: Vec<ServerId> =
            expected.iter().flatten().filter(|own| own.is_here).map(|own| own.server).collect();
        wanted.sort();
        wanted.dedup();
        let wanted: Vec<(ServerId, Option<Found>)> =
            wanted.into_iter().filter(|id| id.is_configured()).map(|id| (id, scene.present.get(id).cloned())).collect();
        let machine = scene.machine.clone();
        let servers = tokio::task::spawn_blocking(move || {
            wanted.into_iter().map(|(id, found)| (id, OfServer::look(&machine, found))).collect()
        });
        let holders = tokio::task::spawn_blocking(move || {
            let started = Instant::now();
            let all = if is_real { ports::all() } else { Vec::new() };
            (all, started.elapsed())
        });
        let machine = scene.machine.clone();
        let stores =
            authority.map(|authority| tokio::task::spawn_blocking(move || settings::stores(&machine, &authority)));
        Self { servers, holders, stores }
    }

    /// Waits for it, and tells of each site.
    pub(super) async fn finish(self, scene: Scene<'_>, sites: Vec<&Expected>) -> Result<Around, LookError> {
        let mut servers = self.servers.await.map_err(LookError::broken_off)?;
        let (holders, took) = self.holders.await.map_err(LookError::broken_off)?;
        let stores = match self.stores {
            Some(stores) => Some(stores.await.map_err(LookError::broken_off)?),
            None => None,
        };
        let mut configured: BTreeMap<usize, Timed<Configured>> = BTreeMap::new();
        for (id, server) in &mut servers {
            let own: Vec<usize> = (0..sites.len()).filter(|at| sites[*at].server == *id).collect();
            let of_server: Vec<&Expected> = own.iter().map(|at| sites[*at]).collect();
            let read = server.configured(scene.machine, &of_server);
            configured.extend(own.into_iter().zip(read).filter_map(|(at, read)| Some((at, read?))));
        }
        let mut known: BTreeMap<(Option<u32>, u16), Option<ServerId>> = BTreeMap::new();
        let mut of_site = |at: usize| {
            let expected = sites[at];
            let is_seen = scene.machine.is_real() && expected.is_here;
            let holders = is_seen.then(|| -> Timed<Vec<PortHolder>> {
                let server_of = |holder: &Holder| {
                    *known
                        .entry((holder.pid, holder.port))
                        .or_insert_with(|| scene.present.of_holder(scene.machine, holder))
                };
                Timed { took, seen: circumstances::holders(&holders, expected, server_of) }
            });
            Beside {
                holders,
                configured: configured.remove(&at),
                stores: stores.clone(),
                // Each site's own are looked at when it is its turn.
                files: FileFaults::default(),
                limits: None,
            }
        };
        let beside = (0..sites.len()).map(&mut of_site).collect();
        Ok(Around { beside, servers })
    }
}
