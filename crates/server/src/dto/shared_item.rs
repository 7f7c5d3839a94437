//! What was given out.

use crate::dto::directory::Directory;
use crate::dto::opening::place;
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_core::rights::{Gives, Level};
use yellow_attic_store::people::grants::Given;

pub async fn given_share(state: &State, who: &Who, all: &Directory, grant: &Given) -> Option<api::Given> {
    let Gives::Allow(level) = grant.gives else { return None };
    let (name, path, folder) = place(state, who, grant.node).await;
    let over = grant.until.is_some_and(|until| until <= state.engine.now_ms());
    let (state_word, sentence) = match (over, name.is_empty()) {
        (true, _) => ("over", "Its time is over."),
        (_, true) => ("target removed", "Its file or folder was removed."),
        _ => ("open", ""),
    };
    let mine = state.engine.files().chain(&who.actor, grant.node, Level::Manage).await.is_ok();
    Some(api::Given {
        kind: "share".into(),
        id: grant.id.0,
        node: grant.node.0,
        name,
        path,
        folder,
        to: all.word(grant.subject).1,
        can: level.word().to_string(),
        state: state_word.into(),
        sentence: sentence.into(),
        until: grant.until.map(show),
        used: None,
        most: None,
        used_at: None,
        used_from: None,
        address: None,
        password: false,
        by: grant.made_by.and_then(|a| all.name(a)).unwrap_or_default(),
        at: show(grant.made_at),
        mine,
    })
}

pub fn given_opening(o: api::Opening) -> api::Given {
    let to = match (o.kind.as_str(), o.password) {
        ("intake", _) => "anybody with the address",
        (_, true) => "anybody with the address and password",
        _ => "anybody with the address",
    };
    let title =
        if o.title.is_empty() || o.title == o.name { o.name } else { format!("{} ({})", o.title, o.name) };
    api::Given {
        can: if o.kind == "intake" { "hand in".into() } else { o.can },
        kind: o.kind,
        id: o.id,
        node: o.node,
        name: title,
        path: o.path,
        folder: o.folder,
        to: to.into(),
        state: o.state,
        sentence: o.sentence,
        until: o.until,
        used: Some(o.used),
        most: o.most,
        used_at: o.used_at,
        used_from: o.used_from,
        address: o.address,
        password: o.password,
        by: o.by,
        at: o.at,
        mine: o.mine,
    }
}
