//! Rules, as they are read and told.

use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use yellow_attic_api as api;
use yellow_attic_core::rules::{Door, EVERYONE, Rule, Rules, Scope, Value};
use yellow_attic_store::ShelfKind;
use yellow_attic_store::people::accounts::Role;

pub fn scope_word(state: &State, all: &Directory, scope: Scope) -> String {
    match scope {
        Scope::Service => "service".into(),
        Scope::Organisation => "organisation".into(),
        Scope::Group(id) => all.word(yellow_attic_core::rights::Subject::Group(id)).0,
        Scope::Shelf(id) => {
            let shelf = state.engine.shelves().into_iter().find(|s| s.id == id);
            format!("shelf:{}", shelf.map_or_else(|| format!("#{id}"), |s| s.name.clone()))
        }
    }
}

/// Reads a scope.
pub fn read_scope(state: &State, all: &Directory, text: &str) -> Result<Scope, Refusal> {
    match text.split_once(':') {
        None if text == "service" => Ok(Scope::Service),
        None if text == "organisation" => Ok(Scope::Organisation),
        Some(("group", name)) => Ok(Scope::Group(all.group(name)?.id)),
        Some(("shelf", name)) => {
            let shelves = state.engine.shelves();
            let shelf = shelves.iter().find(|s| s.kind == ShelfKind::Shared && s.name == name.trim());
            let shelf = shelf.ok_or_else(|| Refusal::not_found(&format!("The shared shelf \"{name}\"")))?;
            Ok(Scope::Shelf(shelf.id))
        }
        _ => Err(refusals::SCOPE_MALFORMED.of(&format!("\"{text}\" is no scope."))),
    }
}

pub fn to_api(state: &State, all: &Directory, rules: &Rules, rule: Rule) -> api::Rule {
    let counts = rules.decide(rule, &[]);
    api::Rule {
        name: rule.word().to_string(),
        title: rule.title().to_string(),
        value: rule.word_of(&counts.value),
        sentence: rule.sentence(&counts.value),
        usual: rule.word_of(&rule.default_value()),
        wanted: rule.wanted(),
        choices: rule.choices().into_iter().map(str::to_string).collect(),
        for_groups: rule.for_groups(),
        for_shelves: rule.for_shelves(),
        set: rules
            .all()
            .filter(|(_, r, _)| *r == rule)
            .map(|(scope, _, value)| api::RuleSet {
                scope: scope_word(state, all, scope),
                value: rule.word_of(value),
                sentence: rule.sentence(value),
            })
            .collect(),
    }
}

/// Reads the name of a rule.
pub fn read_rule(name: &str) -> Result<Rule, Refusal> {
    Rule::from_word(name).ok_or_else(|| {
        let known: Vec<_> = Rule::ALL.iter().map(|r| r.word()).collect();
        refusals::NO_SUCH_RULE
            .with(&format!("There is no rule \"{name}\"."), &format!("There are: {}.", known.join(", ")))
    })
}

/// Refuses a change after which no administrator could open the console.
pub fn check_way_in(all: &Directory, state: &State, after: &Rules) -> Result<(), Refusal> {
    let enters = |a: &yellow_attic_store::people::accounts::Account| {
        let groups = state.engine.people().rules_of(a.id, |_, groups| groups.to_vec());
        a.role == Role::Administrator
            && a.disabled_at.is_none()
            && !a.closed.contains(&Door::Console)
            && !after.closed(&groups).contains(&Door::Console)
    };
    match all.accounts.values().any(enters) {
        true => Ok(()),
        false => {
            Err(refusals::LOCKS_EVERYBODY_OUT.of("After this, no administrator could open the console."))
        }
    }
}

/// Refuses names of groups that are not there.
pub fn check_groups(all: &Directory, rule: Rule, value: Option<&Value>) -> Result<(), Refusal> {
    let Some(Value::Words(words)) = value.filter(|_| rule.by_groups()) else { return Ok(()) };
    for word in words.iter().filter(|w| *w != EVERYONE) {
        let known = &all.group(word)?.name;
        if known != word {
            return Err(refusals::GROUP_SPELLED_OTHERWISE
                .of(&format!("The group is written \"{known}\", not \"{word}\".")));
        }
    }
    Ok(())
}
