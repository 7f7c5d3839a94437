//! Who there is: names of accounts and groups, who sees whom, proofs of who one is.

use crate::dto::directory::{Directory, sees};
use crate::http::problem::Refusal;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, web};
use yellow_attic_api as api;
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_store::people::accounts::Role;

/// All to whom something can be given, as far as the caller may see them: accounts and groups, by name.
#[utoipa::path(context_path = "/api/v1", tag = "people", responses((status = 200, body = api::People)))]
#[get("/people")]
pub async fn list_people(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    let all = Directory::read(&state).await?;
    let seen = sees(&state, &all, &who).await?;
    let mut people: Vec<api::Person> = seen.iter().filter_map(|id| all.person(*id)).collect();
    let every = who.account.role == Role::Administrator
        || who.account.role == Role::Member
            && state.engine.people().rules_of(who.account.id, |rules, groups| {
                rules.decide(Rule::PeopleSeen, groups).value == Value::Choice("everyone")
            });
    let none = who.account.role == Role::Guest || seen.is_empty() && !every;
    people.extend(
        all.groups
            .iter()
            .filter(|g| every || !none && g.members.contains(&who.account.id))
            .map(|g| api::Person { to: format!("group:{}", g.name), name: g.name.clone() }),
    );
    people.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(HttpResponse::Ok().json(api::People { people }))
}
