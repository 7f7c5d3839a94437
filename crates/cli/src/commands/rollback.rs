//! `yattic rollback`

use crate::connection::{self, sure};
use crate::output::{Done, Failure, Output, count, past_moment, size, table, time};
use std::io::{IsTerminal, Write};
use std::time::Duration;
use yellow_attic_client::{Client, api};

/// Roll a folder back to a moment, or take a rollback back.
///
/// What it does are ordinary changes: others can work on meanwhile, what they change stays, and it can be
/// taken back with --undo.
#[derive(clap::Args)]
pub struct Rollback {
    /// The folder, as shelf:/path
    #[arg(required_unless_present = "undo")]
    path: Option<String>,
    /// To which moment: a time such as "2026-11-02 16:20", or a moment from yattic history or yattic snapshot.
    #[arg(long, value_name = "WHEN", required_unless_present = "undo")]
    to: Option<String>,
    /// Leave this file or folder as it is; can be given more than once.
    #[arg(long, value_name = "PATH")]
    keep: Vec<String>,
    /// Leave the newer work of others as it is: files whose present state somebody else made than most of it.
    #[arg(long)]
    keep_others: bool,
    /// Only tell what it would do.
    #[arg(long)]
    preview: bool,
    /// Take this rollback back, by its number.
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["path", "to", "preview", "keep", "keep_others"])]
    undo: Option<i64>,
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

impl Rollback {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let begun = match (self.undo, self.path, self.to) {
            (Some(id), _, _) => {
                sure(self.yes, &format!("rollback {id} would be taken back"), "Take it back?")?;
                client.change_rollback(id, "undo").await?
            }
            (None, Some(path), Some(to)) => {
                let node = client.place(&connection::normalised(&path)?, None).await?.node.id;
                let to = past_moment(&to)?;
                let mut keep = Vec::new();
                for path in &self.keep {
                    keep.push(client.place(&connection::normalised(path)?, None).await?.node.id);
                }
                let mut seen = client.look_at_rollback(node, &to, &keep).await?;
                if self.keep_others {
                    keep.extend(seen.lines.iter().filter(|l| l.others).map(|l| l.node));
                    seen = client.look_at_rollback(node, &to, &keep).await?;
                }
                if self.preview || (!self.yes && !output.json) {
                    show(output, &path, &seen)?;
                }
                if self.preview {
                    return Ok(());
                }
                if seen.steps == 0 {
                    output.say("Nothing to do: it is as it was then.");
                    return Ok(());
                }
                sure(
                    self.yes,
                    &format!("{path} would be rolled back, {}", count(seen.steps as i64, "step")),
                    "Roll back?",
                )?;
                let new = api::NewRollback { to: seen.to, token: Some(seen.token), keep };
                client.begin_rollback(node, &new).await?
            }
            _ => {
                return Err(Failure::usage(
                    "no folder is named",
                    "Give a folder and --to, or --undo NUMBER.",
                ));
            }
        };
        let done = follow(output, &client, begun).await?;
        if output.object(&done)? {
            return Ok(());
        }
        for (name, why) in &done.left_alone {
            println!("\"{name}\" was left as it was: {why}.");
        }
        if done.state != "done" {
            return Err(Failure::failed(
                format!("rollback {} was stopped after {} of {} steps", done.id, done.done, done.steps),
                format!("What it did can be taken back: yattic rollback --undo {}", done.id),
            ));
        }
        output.say(format!(
            "Rolled back: {}, {}. To take it back: yattic rollback --undo {}",
            count(done.done, "step"),
            size(done.bytes_done),
            done.id
        ));
        Ok(())
    }
}

async fn follow(output: Output, client: &Client, mut now: api::Rollback) -> Result<api::Rollback, Failure> {
    let shows = std::io::stderr().is_terminal() && !output.quiet;
    while now.state == "running" {
        tokio::time::sleep(Duration::from_millis(200)).await;
        now = client.rollback(now.id).await?;
        if shows {
            eprint!(
                "\r{} of {} steps, {} of {} ",
                now.done,
                now.steps,
                size(now.bytes_done),
                size(now.bytes)
            );
            std::io::stderr().flush()?;
        }
    }
    if shows {
        eprint!("\r{:60}\r", "");
    }
    Ok(now)
}

fn show(output: Output, path: &str, seen: &api::RollbackPreview) -> Done {
    if output.object(seen)? {
        return Ok(());
    }
    println!("{path} as it was {}:", time(&seen.at));
    let rows = [
        ("come back", seen.returns, Some(seen.return_bytes)),
        ("get their earlier bytes", seen.changes, Some(seen.change_bytes)),
        ("move back", seen.moves, None),
        ("go to the trash", seen.goes, Some(seen.go_bytes)),
        ("stay as they are", (seen.stays + seen.kept) as i64, None),
    ];
    let rows: Vec<_> = rows
        .into_iter()
        .filter(|(_, n, _)| *n > 0)
        .map(|(what, n, bytes)| vec![n.to_string(), what.to_string(), bytes.map(size).unwrap_or_default()])
        .collect();
    table(&rows, &[0]);
    let mut lines = vec![];
    for line in seen.lines.iter().take(40) {
        let by = line.by.as_deref().unwrap_or("somebody");
        let others = line.others.then(|| format!("newer work of {by}"));
        lines.push(vec![
            line.what.clone(),
            line.path.clone(),
            line.why.clone().or(others).unwrap_or_default(),
        ]);
    }
    table(&lines, &[]);
    if seen.lines.len() > 40 {
        println!("and more; --json tells up to 500.");
    }
    if seen.others > 0 {
        println!("--keep-others leaves the newer work of others as it is.");
    }
    Ok(())
}
