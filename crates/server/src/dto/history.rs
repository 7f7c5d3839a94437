//! The past: why it is kept, and purging under way.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use std::sync::Arc;
use yellow_attic_api as api;
use yellow_attic_core::NodeId;
use yellow_attic_core::keeping::{Fate, Why};
use yellow_attic_store::Shelf;
use yellow_attic_store::timeline::retention::Purge;

/// Why a state is kept, in words.
pub fn why(why: Why) -> String {
    match why {
        Why::Hold => "nothing of this shelf goes".into(),
        Why::Named => "it has a name".into(),
        Why::Snapshot(_) => "a snapshot shows it".into(),
        Why::Last(n) => format!("one of the last {n} versions"),
        Why::Spaced(spacing) => match spacing.word() {
            "everything" => "every version is kept for a while".into(),
            word => format!("the {word} version"),
        },
        Why::Trash => "removed things are kept for a while".into(),
        Why::NoRule => "no rule lets it go".into(),
    }
}

/// A fate as callers see it.
pub fn kept(fate: Fate) -> api::Kept {
    match fate {
        Fate::Kept(reason, until) => api::Kept { why: why(reason), until: until.map(show) },
        Fate::Drops(_) | Fate::Erased => api::Kept { why: String::new(), until: None },
    }
}

pub fn shelf_title(state: &State, id: yellow_attic_core::ShelfId) -> String {
    let shelf = state.engine.shelves().into_iter().find(|s| s.id == id);
    shelf.map_or_else(|| format!("#{id}"), |s| crate::dto::space::title(&s))
}

/// What goes, as callers see it.
pub fn going(state: &State, plan: &Purge, done: bool) -> api::Going {
    let total = plan.total();
    let sums = plan.sums.iter().map(|((shelf, goes), sum)| api::GoingSum {
        shelf: shelf_title(state, *shelf),
        why: goes.word().into(),
        states: sum.states,
        bytes: sum.bytes,
        oldest: show(sum.oldest),
        newest: show(sum.newest),
    });
    let largest = plan.largest.iter().map(|s| api::GoingSample {
        name: s.name.clone(),
        shelf: shelf_title(state, s.shelf),
        size: s.size,
        ended: show(s.ended_at),
        why: s.why.word().into(),
    });
    api::Going {
        states: total.states,
        bytes: total.bytes,
        sums: sums.collect(),
        largest: largest.collect(),
        kept: Vec::new(),
        token: plan.token.clone(),
        done,
    }
}

/// The shelf whose top is this node.
pub fn shelf_at(state: &State, root: i64) -> Result<Arc<Shelf>, Refusal> {
    let shelf = state.engine.shelves().into_iter().find(|s| s.root == NodeId(root));
    shelf.ok_or_else(|| Refusal::not_found("The shelf"))
}
