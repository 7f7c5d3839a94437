//! What goes with an account.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use yellow_attic_api as api;
use yellow_attic_store::people::accounts::Account;

pub async fn to_api(state: &State, all: &Directory, account: &Account) -> Result<api::Goes, Refusal> {
    let goes = state.engine.people().what_goes(account).await?;
    let heir = account.leaves.and_then(|(_, heir)| heir);
    Ok(api::Goes {
        files: goes.files,
        bytes: goes.bytes,
        given: goes.given,
        received: goes.received,
        computers: goes.computers,
        groups: goes.groups,
        uploads: goes.uploads,
        sole_owner_of: goes.shelves,
        leaves: account.leaves.map(|(at, _)| show(at)),
        heir: heir.map(|h| all.sign_in(h)),
    })
}
