//! Plans: accounts, groups, shelves, grants and rules as they are to be, looked at and applied.

use crate::api::people::lists::{carry_out, present, told};
use crate::dto::directory::Directory;
use crate::dto::grants::gives;
use crate::dto::quota::quota;
use crate::dto::rules::{check_groups, check_way_in, read_rule, read_scope};
use crate::dto::shelf::shelf_name;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, post, web};
use std::collections::{BTreeSet, HashMap};
use yellow_attic_api as api;
use yellow_attic_core::collate::looks;
use yellow_attic_core::people::{Row, Wanted, Wrong, plan_people};
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::{Gives, Subject};
use yellow_attic_core::rules::{Rules, Scope};
use yellow_attic_core::size::human;
use yellow_attic_core::{GrantId, GroupId, NodeId, ShelfPath};
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::{NewShelf, Shelf, ShelfKind};

/// Groups that a plan makes have no ids yet while it is only looked at.
const PLANNED: GroupId = GroupId(i64::MAX);

struct Planner<'a> {
    state: &'a State,
    who: &'a Who,
    preview: bool,
    steps: Vec<api::PlanStep>,
}

fn changed(what: &str, was: &str, will: &str) -> String {
    match was.is_empty() {
        true => format!("{what}: {will}"),
        false => format!("{what}: {was} → {will}"),
    }
}

fn shown_quota(quota: Option<u64>) -> String {
    quota.map_or_else(|| "none".into(), human)
}

impl Planner<'_> {
    fn step(&mut self, kind: &str, name: &str, fate: &str, details: Vec<String>) {
        self.steps.push(api::PlanStep { kind: kind.into(), name: name.into(), fate: fate.into(), details });
    }

    fn wrong(&mut self, kind: &str, name: &str, reason: &Refusal) {
        self.step(kind, name, "wrong", vec![reason.to_string()]);
    }

    /// Enters what a step found, or why it failed.
    fn enter(&mut self, kind: &str, name: &str, found: Result<(&'static str, Vec<String>), Refusal>) {
        match found {
            Ok((fate, details)) => self.step(kind, name, fate, details),
            Err(reason) => self.wrong(kind, name, &reason),
        }
    }

    async fn group(
        &self,
        all: &Directory,
        plan: &api::PlanGroup,
    ) -> Result<(&'static str, Vec<String>), Refusal> {
        let wanted = plan.quota.as_deref().map(quota).transpose()?;
        let note = plan.note.as_deref().map(str::trim);
        let Ok(there) = all.group(&plan.name) else {
            if plan.name.trim().is_empty() || plan.name.contains(':') {
                return Err(
                    refusals::NAME_CANNOT_BE.of("A group's name has 1 to 64 characters, and no colon.")
                );
            }
            if !self.preview {
                let made = self
                    .state
                    .engine
                    .people()
                    .make_group(&self.who.actor, &plan.name, note.unwrap_or_default())
                    .await?;
                if wanted.is_some() {
                    self.state
                        .engine
                        .people()
                        .change_group(&self.who.actor, made.id, None, None, wanted)
                        .await?;
                }
            }
            return Ok(("made", Vec::new()));
        };
        let mut details = Vec::new();
        if let Some(note) = note.filter(|n| *n != there.note) {
            details.push(changed("note", &there.note, note));
        }
        if let Some(wanted) = wanted.filter(|w| *w != there.quota) {
            details.push(changed("quota", &shown_quota(there.quota), &shown_quota(wanted)));
        }
        if details.is_empty() {
            return Ok(("same", details));
        }
        if !self.preview {
            self.state.engine.people().change_group(&self.who.actor, there.id, None, note, wanted).await?;
        }
        Ok(("changed", details))
    }

    async fn accounts(&mut self, all: &Directory, plan: &api::Plan) -> Result<(), Refusal> {
        let mut groups: Vec<String> = all.groups.iter().map(|g| g.name.clone()).collect();
        if self.preview {
            groups.extend(plan.groups.iter().map(|g| g.name.clone()));
        }
        let rows: Vec<Row> =
            plan.accounts.iter().enumerate().map(|(i, a)| Row { line: i + 1, wanted: wanted(a) }).collect();
        let mut fates = plan_people(&rows, &present(all), &groups, true);
        if !self.preview {
            carry_out(self.state, &self.who.actor, all, &rows, &mut fates).await?;
        }
        for (account, fate) in plan.accounts.iter().zip(&fates) {
            let (fate, details) = told(fate);
            self.step("account", &account.sign_in, fate, details);
        }
        Ok(())
    }

    async fn shelf(
        &self,
        all: &Directory,
        plan: &api::PlanShelf,
        planned: &BTreeSet<String>,
    ) -> Result<(&'static str, Vec<String>), Refusal> {
        let engine = &self.state.engine;
        let wanted = plan.quota.as_deref().map(quota).transpose()?;
        let mut owners = Vec::new();
        for name in plan.owners.iter().flatten() {
            match all.account(name) {
                Ok(id) => owners.push(id),
                Err(_) if self.preview && planned.contains(name) => {}
                Err(e) => return Err(e),
            }
        }
        let note = plan.note.clone();
        let Some(there) = named(engine.shelves(), &plan.name) else {
            let name = shelf_name(&plan.name)?;
            if !self.preview {
                let owner = owners.first().copied().unwrap_or(self.who.account.id);
                let new = NewShelf { kind: ShelfKind::Shared, name, owner: Some(owner), grants: Vec::new() };
                let made = engine.space().make_shelf(&self.who.actor, new).await?;
                let owners = Some(owners).filter(|o| o.len() > 1);
                engine.space().change_shelf(&self.who.actor, &made, note, wanted, owners).await?;
            }
            return Ok(("made", Vec::new()));
        };
        let mut details = Vec::new();
        let was = engine.space().shelf_notes().await?.remove(&there.id).unwrap_or_default();
        if let Some(note) = plan.note.as_deref().filter(|n| *n != was) {
            details.push(changed("note", &was, note));
        }
        let line = engine.space().fullness(&there).await?.line;
        if let Some(wanted) = wanted.filter(|w| *w != line) {
            details.push(changed("quota", &shown_quota(line), &shown_quota(wanted)));
        }
        let names = |ids: &[yellow_attic_core::AccountId]| {
            ids.iter()
                .map(|id| all.sign_in(*id))
                .collect::<BTreeSet<_>>()
                .into_iter()
                .collect::<Vec<_>>()
                .join(", ")
        };
        let (had, will) = (names(&engine.space().owners_of(&there)), names(&owners));
        if plan.owners.is_some() && had != will {
            details.push(changed("owners", &had, &will));
        }
        if details.is_empty() {
            return Ok(("same", details));
        }
        if !self.preview {
            let owners = plan.owners.as_ref().map(|_| owners);
            engine.space().change_shelf(&self.who.actor, &there, note, wanted, owners).await?;
        }
        Ok(("changed", details))
    }

    async fn grant(
        &self,
        all: &Directory,
        plan: &api::PlanGrant,
        to_come: &ToCome,
    ) -> Result<(&'static str, Vec<String>), Refusal> {
        let engine = &self.state.engine;
        let wanted = if plan.can == "none" { None } else { Some(gives(&plan.can)?) };
        let subject = match all.subject(&plan.to) {
            Ok(subject) => subject,
            Err(_) if self.preview && to_come.people.contains(&plan.to) => Subject::Group(PLANNED),
            Err(e) => return Err(e),
        };
        let path = ShelfPath::parse(&plan.path).map_err(yellow_attic_store::StoreError::from)?;
        if self.preview && to_come.shelves.contains(&path.shelf) {
            return Ok((if wanted.is_some() { "made" } else { "same" }, Vec::new()));
        }
        let row = engine.files().resolve(&self.who.actor, &path.shelf, &path.names).await?;
        let found = engine.grants().reach(&self.who.actor, row.node).await?;
        let there = found.grants.iter().find(|g| g.node == row.node && g.subject == subject);
        let here: (NodeId, Option<(GrantId, Gives)>) = (row.node, there.map(|g| (g.id, g.gives)));
        match (here.1, wanted) {
            (None, None) => Ok(("same", Vec::new())),
            (Some((_, now)), Some(wanted)) if now == wanted => Ok(("same", Vec::new())),
            (Some((id, now)), None) => {
                if !self.preview {
                    engine.grants().end_grant(&self.who.actor, id).await?;
                }
                Ok(("changed", vec![changed("can", now.word(), "none")]))
            }
            (now, Some(gives)) => {
                if !self.preview {
                    let new = NewGrant { node: here.0, subject, gives, until: None, message: String::new() };
                    engine.grants().give(&self.who.actor, new).await?;
                }
                Ok(match now {
                    Some((_, now)) => ("changed", vec![changed("can", now.word(), gives.word())]),
                    None => ("made", Vec::new()),
                })
            }
        }
    }

    async fn rule(
        &self,
        all: &Directory,
        plan: &api::PlanRule,
        to_come: &ToCome,
        rules: &mut Rules,
    ) -> Result<(&'static str, Vec<String>), Refusal> {
        let rule = read_rule(&plan.name)?;
        let place = plan.scope.as_deref().unwrap_or("service");
        let scope = match read_scope(self.state, all, place) {
            Ok(scope) => scope,
            Err(_) if self.preview && to_come.people.contains(place) => Scope::Group(PLANNED),
            Err(e) => return Err(e),
        };
        let value = rule.read(&plan.value).map_err(yellow_attic_store::StoreError::from)?;
        let was = rules.at(scope, rule).cloned();
        if was.as_ref() == Some(&value) {
            return Ok(("same", Vec::new()));
        }
        let after =
            rules.with(scope, rule, Some(value.clone())).map_err(yellow_attic_store::StoreError::from)?;
        check_way_in(all, self.state, &after)?;
        check_groups(all, rule, Some(&value))?;
        let details =
            vec![changed("value", &was.map(|w| rule.word_of(&w)).unwrap_or_default(), &rule.word_of(&value))];
        if !self.preview {
            self.state.engine.people().set_rule(&self.who.actor, scope, rule, Some(value), place).await?;
        }
        *rules = after;
        Ok(("changed", details))
    }
}

/// What earlier steps of the plan will have made.
struct ToCome {
    people: BTreeSet<String>,
    shelves: BTreeSet<String>,
}

fn named(all: Vec<std::sync::Arc<Shelf>>, name: &str) -> Option<std::sync::Arc<Shelf>> {
    all.into_iter().find(|s| s.kind == ShelfKind::Shared && s.name == name.trim())
}

fn wanted(plan: &api::PlanAccount) -> Result<Wanted, Vec<Wrong>> {
    let quota = match &plan.quota {
        None => None,
        Some(text) => Some(yellow_attic_core::people::read_quota(text).ok_or_else(|| {
            let reason = format!("\"{text}\" is no size; write it like 20 GiB, or none");
            vec![Wrong { column: "quota".into(), reason }]
        })?),
    };
    Ok(Wanted {
        sign_in: plan.sign_in.trim().to_lowercase(),
        display_name: plan.display_name.clone(),
        mail: plan.mail.clone(),
        groups: plan.groups.clone(),
        quota,
        role: plan.role.clone(),
    })
}

async fn walk(
    state: &State,
    who: &Who,
    plan: &api::Plan,
    preview: bool,
) -> Result<Vec<api::PlanStep>, Refusal> {
    let mut planner = Planner { state, who, preview, steps: Vec::new() };
    let mut all = Directory::read(state).await?;
    let mut seen: HashMap<String, usize> = HashMap::new();
    for group in &plan.groups {
        if seen.insert(looks(&group.name), 1).is_some() {
            planner.step("group", &group.name, "wrong", vec!["the plan names it twice".into()]);
            continue;
        }
        let found = planner.group(&all, group).await;
        planner.enter("group", &group.name, found);
    }
    if !preview {
        all = Directory::read(state).await?;
    }
    planner.accounts(&all, plan).await?;
    if !preview {
        state.names.forget().await;
        all = Directory::read(state).await?;
    }
    let accounts: BTreeSet<String> = plan.accounts.iter().map(|a| a.sign_in.clone()).collect();
    let there: BTreeSet<String> = state.engine.shelves().iter().map(|s| s.name.clone()).collect();
    let to_come = ToCome {
        people: plan
            .groups
            .iter()
            .map(|g| format!("group:{}", g.name))
            .chain(accounts.iter().map(|a| format!("account:{a}")))
            .collect(),
        shelves: plan.shelves.iter().map(|s| s.name.clone()).filter(|s| !there.contains(s)).collect(),
    };
    for shelf in &plan.shelves {
        let found = planner.shelf(&all, shelf, &accounts).await;
        planner.enter("shelf", &shelf.name, found);
    }
    for grant in &plan.grants {
        let found = planner.grant(&all, grant, &to_come).await;
        planner.enter("grant", &format!("{} {} on {}", grant.to, grant.can, grant.path), found);
    }
    let mut rules = state.engine.people().rules();
    for rule in &plan.rules {
        let found = planner.rule(&all, rule, &to_come, &mut rules).await;
        let scope = rule.scope.as_deref().unwrap_or("service");
        planner.enter("rule", &format!("{} of {scope}", rule.name), found);
    }
    Ok(planner.steps)
}

/// Looks at a plan, and unless it is a preview applies it. A plan with something wrong is not
/// applied. Applied again, it changes nothing more.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::ApplyPlan,
    responses((status = 200, body = api::PlanTold), (status = 400, body = api::Problem), (status = 403, body = api::Problem)))]
#[post("/plan")]
pub async fn apply_plan(
    state: web::Data<State>,
    who: Who,
    body: Json<api::ApplyPlan>,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let looked = walk(&state, &who, &body.plan, true).await?;
    if body.preview || looked.iter().any(|s| s.fate == "wrong") {
        return Ok(HttpResponse::Ok().json(api::PlanTold { steps: looked, done: false }));
    }
    who.need(&state, Deed::CarryOutPlan)?;
    let steps = walk(&state, &who, &body.plan, false).await?;
    state.revoked();
    Ok(HttpResponse::Ok().json(api::PlanTold { steps, done: true }))
}
