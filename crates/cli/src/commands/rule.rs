//! `yattic rule`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Failure, Output, count, size, table, time};
use yellow_attic_client::{Client, api};

/// Show and set rules (administrators).
///
/// A rule is set for the whole service, the organisation or a group. Of all that apply to somebody
/// the tightest counts; a narrower scope may tighten, never widen.
#[derive(clap::Args)]
pub struct Rule {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List all rules with what counts.
    Ls,
    /// Show one rule: what it does, what it can be, and where it is set.
    Show {
        /// Its name, such as password-length.
        name: String,
    },
    /// Set a rule. Tells first for whom it changes something.
    Set {
        /// Its name.
        name: String,
        /// Its value; yattic rule show NAME says what it can be.
        value: String,
        /// Where: service, organisation, group:NAME or shelf:NAME.
        #[arg(long, value_name = "SCOPE", default_value = "service")]
        scope: String,
        /// Only tell what it would do.
        #[arg(long)]
        preview: bool,
        /// What becomes of links and intakes that break it: leave (they do not open), shorten those
        /// that live too long, end all of them.
        #[arg(long, value_name = "FATE", value_parser = ["leave", "shorten", "end"], default_value = "leave")]
        breaking: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Take a rule away at a scope: what is further up counts again.
    End {
        /// Its name.
        name: String,
        /// Where: service, organisation, group:NAME or shelf:NAME.
        #[arg(long, value_name = "SCOPE", default_value = "service")]
        scope: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Rule {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::Ls => {
                let all = client.rules().await?;
                if output.object(&all)? {
                    return Ok(());
                }
                let mut rows = vec![["rule", "value", "what it does"].map(String::from).to_vec()];
                for rule in &all.rules {
                    rows.push(vec![rule.name.clone(), rule.value.clone(), rule.sentence.clone()]);
                    let groups = rule.set.iter().filter(|s| s.scope.contains(':'));
                    rows.extend(
                        groups.map(|s| vec![format!("  {}", s.scope), s.value.clone(), s.sentence.clone()]),
                    );
                }
                table(&rows, &[]);
            }
            Act::Show { name } => {
                let all = client.rules().await?;
                let found = all.rules.iter().find(|r| r.name == name).ok_or_else(|| {
                    Failure::failed(format!("there is no rule \"{name}\""), "List them: yattic rule ls")
                })?;
                if output.object(found)? {
                    return Ok(());
                }
                let mut rows = vec![
                    vec!["rule".to_string(), format!("{} ({})", found.name, found.title)],
                    vec!["counts".to_string(), format!("{}: {}", found.value, found.sentence)],
                    vec!["can be".to_string(), found.wanted.clone()],
                    vec!["if unset".to_string(), found.usual.clone()],
                ];
                rows.extend(found.set.iter().map(|s| vec![format!("set for {}", s.scope), s.value.clone()]));
                table(&rows, &[]);
            }
            Act::Set { name, value, scope, preview, breaking, yes } => {
                let change = api::RuleChange { scope, value: Some(value), preview, breaking: Some(breaking) };
                set(output, &client, &name, change, yes).await?;
            }
            Act::End { name, scope, yes } => {
                let change = api::RuleChange { scope, value: None, preview: false, breaking: None };
                set(output, &client, &name, change, yes).await?;
            }
        }
        Ok(())
    }
}

/// Tells what a change does, asks, and does it.
pub async fn set(output: Output, client: &Client, name: &str, change: api::RuleChange, yes: bool) -> Done {
    let look = api::RuleChange { preview: true, ..change.clone() };
    let told = client.set_rule(name, &look).await?;
    if change.preview {
        return show(output, name, &told);
    }
    let lets_go = told.going.as_ref().map_or(0, |g| g.states).saturating_sub(told.going_before.unwrap_or(0));
    let touches = !told.people.is_empty() || !told.broken.is_empty() || lets_go > 0;
    if !yes && touches && !output.json {
        show(output, name, &told)?;
    }
    if touches {
        let mut what = Vec::new();
        if !told.people.is_empty() {
            what.push(people(told.people.len()));
        }
        if !told.broken.is_empty() {
            what.push(match told.broken.len() {
                1 => "1 link or intake".into(),
                n => format!("{n} links and intakes"),
            });
        }
        if lets_go > 0 {
            what.push(count(lets_go as i64, "past state"));
        }
        sure(yes, &format!("{name} would touch {}", what.join(" and ")), "Set it?")?;
    }
    let done = proved(client, async || client.set_rule(name, &change).await).await?;
    if output.object(&done)? {
        return Ok(());
    }
    output.say(format!("{name} is \"{}\" now. {}", done.value, done.sentence));
    Ok(())
}

fn people(n: usize) -> String {
    if n == 1 { "1 person".into() } else { count(n, "person").replace("persons", "people") }
}

fn show(output: Output, name: &str, told: &api::RuleEffects) -> Done {
    if output.object(told)? {
        return Ok(());
    }
    println!("{name} would be \"{}\". {}", told.value, told.sentence);
    if let Some(going) = told.going.as_ref().filter(|g| g.states > 0) {
        super::trash::show(output, going, "would go for good with the next look at the rules")?;
    }
    if !told.quotas.is_empty() {
        let mut rows = vec![["of", "would count", "hard"].map(String::from).to_vec()];
        rows.extend(told.quotas.iter().map(|q| {
            let hard = q.hard.map_or_else(|| "none".into(), |n| size(n as i64));
            vec![q.name.clone(), size(q.used as i64), hard]
        }));
        table(&rows, &[1, 2]);
    }
    let goes = told.going.as_ref().is_some_and(|g| g.states > 0) || !told.quotas.is_empty();
    if told.people.is_empty() && told.broken.is_empty() && goes {
        return Ok(());
    }
    if told.people.is_empty() && told.broken.is_empty() {
        println!("It changes nothing for anybody now.");
        return Ok(());
    }
    if !told.broken.is_empty() {
        println!("These break it, and do not open any more (see --breaking):");
        let mut rows = vec![["kind", "id", "opens", "by", "why", "would end"].map(String::from).to_vec()];
        rows.extend(told.broken.iter().map(|b| {
            let end = b.shorten.as_deref().map_or_else(String::new, time);
            vec![b.kind.clone(), b.id.to_string(), b.name.clone(), b.by.clone(), b.breaks.clone(), end]
        }));
        table(&rows, &[1]);
    }
    if told.people.is_empty() {
        return Ok(());
    }
    let mut rows = vec![["account", "name", "now", "then", "at once"].map(String::from).to_vec()];
    rows.extend(told.people.iter().map(|p| {
        vec![p.sign_in.clone(), p.display_name.clone(), p.before.clone(), p.after.clone(), p.at_once.clone()]
    }));
    table(&rows, &[]);
    Ok(())
}
