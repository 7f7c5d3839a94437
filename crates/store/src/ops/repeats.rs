//! Requests that their senders named: a repeat gets the first answer, and does nothing.

use crate::catalogue::rows::{self, Made, Told};
use crate::fs::error::Result;
use crate::fs::model::Actor;
use crate::ops::Outcome;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use yellow_attic_core::conditions::{Known, RequestId};
use yellow_attic_core::{AccountId, NodeId};

/// The first answer to a request that its sender named.
pub(crate) async fn answered(txn: &mut WriteTxn, actor: &Actor, known: &Known) -> Result<Option<Outcome>> {
    let Some(key) = named(actor, known) else { return Ok(None) };
    let told = match txn.group.requests.get(&key) {
        Some(told) => Some(*told),
        None => rows::request(&mut txn.conn, key.0, key.1).await?,
    };
    let Some(told) = told else { return Ok(None) };
    let (created, moment) = (told.made == Made::New, told.moment);
    if told.made == Made::Removed {
        return Ok(Some(Outcome { row: None, created, moment, same: false }));
    }
    let present = txn.row(told.node).await?.filter(|row| row.since == moment);
    let row = match present {
        Some(row) => Some(row),
        // Something came after it: the answer is what it was then.
        None => match txn.group.ended.iter().find(|p| p.row.node == told.node && p.row.since == moment) {
            Some(past) => Some(Arc::new(past.row.clone())),
            None => rows::past_since(&mut txn.conn, told.node, moment).await?.map(Arc::new),
        },
    };
    Ok(Some(Outcome { row, created, moment, same: false }))
}

/// Remembers what a named request is answered with.
pub(crate) fn remember(txn: &mut WriteTxn, actor: &Actor, known: &Known, node: NodeId, done: &Outcome) {
    let Some(key) = named(actor, known) else { return };
    let (made, moment) = match &done.row {
        None => (Made::Removed, done.moment),
        Some(row) => (if done.created { Made::New } else { Made::Changed }, row.since),
    };
    let node = done.row.as_ref().map_or(node, |row| row.node);
    txn.group.requests.insert(key, Told { node, moment, made });
}

/// By what a request is known again: whose it is, from which device, and how they call it.
pub(crate) fn named(actor: &Actor, known: &Known) -> Option<(AccountId, RequestId)> {
    let (account, id) = (actor.account.filter(|_| actor.through.is_none())?, known.request?);
    let device = actor.device.map_or(0, |d| d.0);
    let mut own = [0; 16];
    let hash = blake3::Hasher::new().update(&device.to_le_bytes()).update(&id.0).finalize();
    own.copy_from_slice(&hash.as_bytes()[..16]);
    Some((account, RequestId(own)))
}
