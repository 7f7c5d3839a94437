//! Rollbacks.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_core::rights::Level;
use yellow_attic_store::timeline::rollback::Rollback;

pub async fn to_api(state: &State, who: &Who, r: &Rollback) -> Result<api::Rollback, Refusal> {
    let path = match state.engine.files().chain(&who.actor, r.node, Level::View).await {
        Ok(chain) => {
            let way: Vec<&yellow_attic_store::Row> = chain.iter().map(|r| &**r).collect();
            state.engine.files().way_of(&who.actor, &way).await?.path
        }
        Err(_) => String::new(),
    };
    Ok(api::Rollback {
        id: r.id,
        node: r.node.0,
        path,
        to: r.goal.token(),
        at: show(state.engine.history().time_of(r.goal).await?),
        before: r.begun.token(),
        by: r.who.clone(),
        made: show(r.made_at),
        state: r.state.clone(),
        ended: r.ended_at.map(show),
        steps: r.steps,
        done: r.done,
        bytes: r.bytes,
        bytes_done: r.bytes_done,
        undoes: r.undoes,
        left_alone: r.left_alone.iter().map(|l| (l.name.clone(), l.why.clone())).collect(),
    })
}
