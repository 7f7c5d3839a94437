//! Whoever bytes go to: somebody who is signed in, or a stranger who came through a link.

use crate::identity::principal;
use crate::state::State;
use crate::state::sessions::Who;
use crate::state::visits::Visit;
use yellow_attic_core::NodeId;
use yellow_attic_core::rights::Level;
use yellow_attic_store::Actor;

/// Whoever reads.
#[derive(Clone)]
pub enum Reader {
    /// Signed in.
    Signed(Who),
    /// Through a link.
    Stranger(Visit),
}

impl From<&Who> for Reader {
    fn from(who: &Who) -> Reader {
        Reader::Signed(who.clone())
    }
}

impl From<&Visit> for Reader {
    fn from(visit: &Visit) -> Reader {
        Reader::Stranger(visit.clone())
    }
}

impl Reader {
    /// How the engine knows them.
    pub fn actor(&self) -> &Actor {
        match self {
            Reader::Signed(who) => &who.actor,
            Reader::Stranger(visit) => &visit.actor,
        }
    }

    /// Whether they may still come in as they did when a long answer began.
    pub async fn still(&self, state: &State) -> bool {
        match self {
            Reader::Signed(who) => principal::still(state, who).await,
            Reader::Stranger(visit) => visit.still(&state.engine).await,
        }
    }

    /// Whether they may still look at a node. For who is signed in, its past is enough.
    pub async fn sees(&self, state: &State, node: NodeId) -> bool {
        match self {
            Reader::Signed(who) => state.engine.history().states(&who.actor, node, 1).await.is_ok(),
            Reader::Stranger(visit) => {
                state.engine.files().chain(&visit.actor, node, Level::View).await.is_ok()
            }
        }
    }
}
