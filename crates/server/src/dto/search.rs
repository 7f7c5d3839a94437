//! What a search found.

use crate::dto::node;
use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_store::Row;
use yellow_attic_store::timeline::search::FoundChain;

pub async fn found(state: &State, who: &Who, chains: &[FoundChain]) -> Result<Vec<api::FoundNode>, Refusal> {
    let names = state.names_for(who).await;
    let mut all = Vec::with_capacity(chains.len());
    for chain in chains {
        let way: Vec<&Row> = chain.iter().map(|r| &**r).collect();
        let way = state.engine.files().way_of(&who.actor, &way).await?;
        all.push(api::FoundNode {
            node: node::seen(state, who, &chain[0], None, &names).await?,
            path: way.path,
        });
    }
    Ok(all)
}
