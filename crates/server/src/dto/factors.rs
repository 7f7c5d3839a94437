//! The second factors of an account.

use crate::dto::account::factor_to_api;
use crate::http::problem::Refusal;
use crate::identity::factors::passkeys;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::HttpRequest;
use yellow_attic_api as api;

pub async fn to_api(state: &State, request: &HttpRequest, who: &Who) -> Result<api::Factors, Refusal> {
    let factors = state.engine.sign_ins().factors(who.account.id).await?;
    Ok(api::Factors {
        factors: factors.into_iter().map(factor_to_api).collect(),
        recovery_left: state.engine.sign_ins().recovery_left(who.account.id).await?,
        demanded_from: crate::identity::doors::factor_demanded(state, &who.account).map(|d| d.to_string()),
        passkeys: passkeys(state, request).is_ok(),
    })
}
