//! One's own account, its sessions, computers and factors.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_core::rights::Level;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::second_factor::Factor;
use yellow_attic_store::people::sessions::Session;
use yellow_attic_store::people::sign_ins::Device;
use yellow_attic_store::{Row, TokenScope};

/// Who is signed in, as the pages show it.
pub async fn me(state: &State, account: &Account) -> Result<api::Me, Refusal> {
    Ok(api::Me {
        sign_in: account.sign_in.clone(),
        display_name: account.display_name.clone(),
        role: account.role.word().to_string(),
        seen_by: None,
        needs_factor: crate::identity::doors::lacks_factor(state, account).await?,
        picture: state.engine.sign_ins().picture(account.id).await?.map(|(_, at)| show(at)),
    })
}

/// A device as it is told. `fresh`: its last use, if that is not written yet.
pub async fn device_to_api(
    state: &State,
    who: &Who,
    device: Device,
    fresh: Option<(i64, String)>,
) -> Result<api::Device, Refusal> {
    let (used, used_from) = match fresh {
        Some((at, from)) => (Some(at), Some(from)),
        None => (device.used_at, device.used_from),
    };
    let reach = match &device.scope {
        Some(scope) => Some(reach_to_api(state, who, scope).await?),
        None => None,
    };
    let reported = device.told.as_ref().map(|told| show(told.at));
    let report = device.told.map(|told| api::DeviceReport {
        program: told.program,
        pairs: serde_json::from_str(&told.pairs).unwrap_or_default(),
    });
    Ok(api::Device {
        id: device.id.0,
        name: device.name,
        connected: show(device.made_at),
        used: used.map(show),
        used_from,
        this: who.actor.device == Some(device.id),
        reach,
        report,
        reported,
    })
}

/// How far a token reaches, with the places as whoever asks may see them.
pub async fn reach_to_api(state: &State, who: &Who, scope: &TokenScope) -> Result<api::TokenReach, Refusal> {
    let mut within = Vec::with_capacity(scope.nodes.len());
    for node in &scope.nodes {
        let path: Option<String> = match state.engine.files().chain(&who.actor, *node, Level::View).await {
            Ok(chain) => {
                let way: Vec<&Row> = chain.iter().map(|r| &**r).collect();
                Some(state.engine.files().way_of(&who.actor, &way).await?.path)
            }
            Err(_) => None,
        };
        let node = path.is_some().then_some(node.0);
        within.push(api::ReachedFolder { node, path });
    }
    Ok(api::TokenReach { read_only: scope.most <= Level::View, within })
}

/// How a session is named: by a part of the hash of its secret.
/// What a session is named by: the beginning of the hash of its secret.
pub fn session_id(token: &[u8; 32]) -> String {
    hex(&token[..8])
}

/// A session as it is told.
pub fn session_to_api(who: &Who, session: Session) -> api::Session {
    api::Session {
        id: session_id(&session.token),
        opened: show(session.made_at),
        ends: show(session.ends_at),
        this: session.token == who.token,
        from: session.from,
        agent: session.agent,
    }
}

/// A second factor as it is told.
pub fn factor_to_api(factor: Factor) -> api::Factor {
    api::Factor {
        id: factor.id,
        kind: factor.kind.word().to_string(),
        name: factor.name,
        made: show(factor.made_at),
        used: factor.used_at.map(show),
    }
}
