//! One's own account, its sessions, computers and factors.

use crate::http::problem::Refusal;
use crate::http::times::show;
use crate::state::State;
use crate::state::sessions::Who;
use yellow_attic_api as api;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::second_factor::Factor;
use yellow_attic_store::people::sessions::Session;
use yellow_attic_store::people::sign_ins::Device;

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
pub fn device_to_api(who: &Who, device: Device, fresh: Option<(i64, String)>) -> api::Device {
    let (used, used_from) = match fresh {
        Some((at, from)) => (Some(at), Some(from)),
        None => (device.used_at, device.used_from),
    };
    api::Device {
        id: device.id.0,
        name: device.name,
        connected: show(device.made_at),
        used: used.map(show),
        used_from,
        this: who.actor.device == Some(device.id),
    }
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
