//! Rules: what counts, what a change would do, and the change.

use super::people::Directory;
use crate::app::State;
use crate::auth::Who;
use crate::problem::Refusal;
use crate::times::today;
use actix_web::{HttpResponse, get, put, web};
use yellow_attic_api as api;
use yellow_attic_core::rules::{Door, Rule, Rules, Scope, plan_rules, word};
use yellow_attic_store::StoreError;
use yellow_attic_store::people::Role;

fn scope_word(all: &Directory, scope: Scope) -> String {
    match scope {
        Scope::Service => "service".into(),
        Scope::Organisation => "organisation".into(),
        Scope::Group(id) => all.word(yellow_attic_core::rights::Subject::Group(id)).0,
    }
}

/// Reads a scope.
pub fn read_scope(all: &Directory, text: &str) -> Result<Scope, Refusal> {
    match text.split_once(':') {
        None if text == "service" => Ok(Scope::Service),
        None if text == "organisation" => Ok(Scope::Organisation),
        Some(("group", name)) => Ok(Scope::Group(all.group(name)?.id)),
        _ => Err(Refusal::bad(
            "scope_malformed",
            &format!("\"{text}\" is no scope."),
            "Write service, organisation or group:NAME.",
        )),
    }
}

fn shown(all: &Directory, rules: &Rules, rule: Rule) -> api::Rule {
    let counts = rules.decide(rule, &[]);
    api::Rule {
        name: rule.word().to_string(),
        title: rule.title().to_string(),
        value: word(&counts.value),
        sentence: rule.sentence(&counts.value),
        usual: word(&rule.default_value()),
        wanted: rule.wanted(),
        choices: rule.choices().into_iter().map(str::to_string).collect(),
        for_groups: rule.for_groups(),
        set: rules
            .all()
            .filter(|(_, r, _)| *r == rule)
            .map(|(scope, _, value)| api::RuleSet {
                scope: scope_word(all, scope),
                value: word(value),
                sentence: rule.sentence(value),
            })
            .collect(),
    }
}

/// All rules, with what counts and where it is set. For administrators.
#[utoipa::path(context_path = "/api/v1", tag = "rules", responses((status = 200, body = api::Rules), (status = 403, body = api::Problem)))]
#[get("/rules")]
pub async fn list_rules(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let rules = state.engine.rules();
    let rules = Rule::ALL.into_iter().map(|rule| shown(&all, &rules, rule)).collect();
    Ok(HttpResponse::Ok().json(api::Rules { rules }))
}

/// Reads the name of a rule.
pub fn read_rule(name: &str) -> Result<Rule, Refusal> {
    Rule::from_word(name).ok_or_else(|| {
        let known: Vec<_> = Rule::ALL.iter().map(|r| r.word()).collect();
        Refusal::new(
            404,
            "no_such_rule",
            "No such rule",
            &format!("There is no rule \"{name}\"."),
            &format!("There are: {}.", known.join(", ")),
        )
    })
}

/// Refuses a change after which no administrator could open the console.
pub fn check_way_in(all: &Directory, state: &State, after: &Rules) -> Result<(), Refusal> {
    let enters = |a: &yellow_attic_store::people::Account| {
        let groups = state.engine.rules_of(a.id, |_, groups| groups.to_vec());
        a.role == Role::Administrator
            && a.disabled_at.is_none()
            && !a.closed.contains(&Door::Console)
            && !after.closed(&groups).contains(&Door::Console)
    };
    match all.accounts.values().any(enters) {
        true => Ok(()),
        false => Err(Refusal::new(
            409,
            "locks_everybody_out",
            "Nobody could open it again",
            "After this, no administrator could open the console.",
            "Leave the console open to at least one administrator.",
        )),
    }
}

/// Sets a rule at a scope, or tells what that would do. A narrower scope may tighten, never widen.
#[utoipa::path(context_path = "/api/v1", tag = "rules", params(("name" = String, Path)), request_body = api::RuleChange,
    responses((status = 200, body = api::RuleEffects), (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
#[put("/rules/{name}")]
pub async fn set_rule(
    state: web::Data<State>,
    who: Who,
    path: web::Path<String>,
    body: web::Json<api::RuleChange>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let all = Directory::read(&state).await?;
    let rule = read_rule(&path)?;
    let scope = read_scope(&all, &body.scope)?;
    let value = body.value.as_deref().map(|v| rule.read(v)).transpose().map_err(StoreError::from)?;
    let before = state.engine.rules();
    let after = before.with(scope, rule, value.clone()).map_err(StoreError::from)?;
    check_way_in(&all, &state, &after)?;
    let mut accounts: Vec<_> = all.accounts.values().cloned().collect();
    accounts.sort_by(|a, b| a.sign_in.cmp(&b.sign_in));
    let facts = state.engine.facts_of(&accounts).await?;
    let effects = plan_rules(rule, &before, &after, &facts, today(state.engine.now_ms()));
    if !body.preview {
        who.need_proof(&state)?;
        state.engine.set_rule(&who.actor, scope, rule, value, &body.scope).await?;
        if rule == Rule::GuestsIdle {
            state.engine.disable_idle_guests().await?;
        }
        state.revoked();
    }
    let groups = match scope {
        Scope::Group(group) => vec![group],
        _ => Vec::new(),
    };
    let counts = after.decide(rule, &groups).value;
    Ok(HttpResponse::Ok().json(api::RuleEffects {
        value: word(&counts),
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
        done: !body.preview,
    }))
}
