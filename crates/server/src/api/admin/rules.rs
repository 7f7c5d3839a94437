//! Rules: what counts, what a change would do, and the change.

use crate::dto::directory::Directory;
use crate::dto::rules::{check_groups, check_way_in, read_rule, read_scope, to_api};
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times::{show, today};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, get, put, web};
use yellow_attic_api as api;
use yellow_attic_core::openings::Breaks;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rules::{Rule, Rules, Scope, plan_rules};
use yellow_attic_store::StoreError;
use yellow_attic_store::sharing::openings::{Opening, Set};

/// All rules, with what counts and where it is set. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "rules", responses((status = 200, body = api::Rules), (status = 403, body = api::Problem)))]
#[get("/rules")]
pub async fn list_rules(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let rules = state.engine.people().rules();
    let rules = Rule::ALL.into_iter().map(|rule| to_api(&state, &all, &rules, rule)).collect();
    Ok(HttpResponse::Ok().json(api::Rules { rules }))
}

/// What becomes of what breaks a rule.
#[derive(Clone, Copy, PartialEq)]
enum Mend {
    Leave,
    Shorten,
    End,
}

/// Links and intakes that break a rule after a change, and did not before.
async fn broken_by(
    state: &State,
    rule: Rule,
    before: &Rules,
    after: &Rules,
    word: Option<&str>,
) -> Result<(Mend, Vec<(Opening, Breaks)>), Refusal> {
    let mend = match word {
        None | Some("leave") => Mend::Leave,
        Some("shorten") => Mend::Shorten,
        Some("end") => Mend::End,
        Some(other) => {
            return Err(refusals::WORD_UNKNOWN.of(&format!("breaking={other} is unknown.")));
        }
    };
    if !rule.for_strangers() {
        return Ok((mend, Vec::new()));
    }
    let were = state.engine.sharing().breaking(before).await?;
    let mut broken = state.engine.sharing().breaking(after).await?;
    broken.retain(|(o, b)| !were.iter().any(|(w, was)| w.id == o.id && was == b));
    Ok((mend, broken))
}

/// Sets a rule at a scope, or tells what that would do. A narrower scope may tighten, never widen.
#[utoipa::path(context_path = "/api/v1", tag = "rules", params(("name" = String, Path)), request_body = api::RuleChange,
    responses((status = 200, body = api::RuleEffects), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[put("/rules/{name}")]
pub async fn set_rule(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: Json<api::RuleChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let rule = read_rule(&path)?;
    let scope = read_scope(&state, &all, &body.scope)?;
    let value = body.value.as_deref().map(|v| rule.read(v)).transpose().map_err(StoreError::from)?;
    let before = state.engine.people().rules();
    let after = before.with(scope, rule, value.clone()).map_err(StoreError::from)?;
    check_way_in(&all, &state, &after)?;
    check_groups(&all, rule, value.as_ref())?;
    let (mend, broken) = broken_by(&state, rule, &before, &after, body.breaking.as_deref()).await?;
    let mut accounts: Vec<_> = all.accounts.values().cloned().collect();
    accounts.sort_by(|a, b| a.sign_in.cmp(&b.sign_in));
    let facts = state.engine.people().facts_of(&accounts).await?;
    let effects = plan_rules(rule, &before, &after, &facts, today(state.engine.now_ms()));
    if !body.preview {
        who.need(&state, Deed::SetRule)?;
        state.engine.people().set_rule(&who.actor, scope, rule, value, &body.scope).await?;
        if rule == Rule::GuestsIdle {
            state.engine.people().disable_idle_guests().await?;
        }
        for (opening, breaks) in &broken {
            let set = match (mend, breaks) {
                (Mend::Leave, _) | (Mend::Shorten, Breaks::Password | Breaks::Maker | Breaks::Inside) => {
                    continue;
                }
                (Mend::Shorten, Breaks::Days(end)) if *end > state.engine.now_ms() => {
                    Set { ends_at: Some(Some(*end)), ..Set::default() }
                }
                _ => Set { ended: Some(true), ..Set::default() },
            };
            state.engine.sharing().change_opening(&who.actor, opening.id, set, true).await?;
        }
        state.revoked();
    }
    let (groups, shelf) = match scope {
        Scope::Group(group) => (vec![group], None),
        Scope::Shelf(shelf) => (Vec::new(), Some(shelf)),
        _ => (Vec::new(), None),
    };
    let counts = after.decide_on(rule, &groups, shelf).value;
    let mut shown_broken = Vec::new();
    for (opening, breaks) in &broken {
        let name = crate::dto::opening::name_of(&state, opening).await;
        shown_broken.push(api::RuleBroken {
            kind: opening.kind.word().to_string(),
            id: opening.id.0,
            name,
            by: all.name(opening.made_by).unwrap_or_default(),
            breaks: breaks.sentence().to_string(),
            shorten: match breaks {
                Breaks::Days(end) => Some(show(*end)),
                _ => None,
            },
        });
    }
    let (mut going, mut going_before, mut quotas) = (None, None, Vec::new());
    if rule.drops() {
        // What goes is looked at by the same function that lets it go.
        let plan = state.engine.history().plan_change(&after).await?;
        let now = state.engine.history().plan_change(&before).await?;
        going = Some(crate::dto::history::going(&state, &plan, false));
        going_before = Some(now.total().states);
    }
    if rule == Rule::QuotaCounts {
        let counts = yellow_attic_store::rights::quota::Counts::of(&after);
        quotas = crate::dto::space::quotas(&state, Some(counts), true).await?;
    }
    Ok(HttpResponse::Ok().json(api::RuleEffects {
        going,
        going_before,
        quotas,
        value: rule.word_of(&counts),
        sentence: rule.sentence(&counts),
        people: effects
            .into_iter()
            .map(|e| api::RuleEffect {
                sign_in: all.sign_in(e.account),
                display_name: all.name(e.account).unwrap_or_default(),
                before: e.before,
                after: e.after,
                at_once: e.at_once,
            })
            .collect(),
        broken: shown_broken,
        done: !body.preview,
    }))
}
