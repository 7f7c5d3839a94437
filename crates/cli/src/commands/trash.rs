//! `yattic trash`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Output, count, size, table, time};
use yellow_attic_client::{Client, api};

/// Show what was removed, bring it back, or remove it for good.
#[derive(clap::Args)]
pub struct Trash {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List what was removed from a folder and from beneath it, newest first.
    Ls {
        /// The folder, as shelf:/path
        #[arg(default_value = "home:/")]
        path: String,
    },
    /// Remove things in the trash for good, by their ids. What a snapshot or a rule holds stays.
    End {
        /// Ids, from the first column of yattic trash ls.
        #[arg(required = true)]
        id: Vec<i64>,
        /// Only tell what would go.
        #[arg(long)]
        preview: bool,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Remove everything for good that was removed from a folder and from beneath it.
    Empty {
        /// The folder, as shelf:/path
        path: String,
        /// Only tell what would go.
        #[arg(long)]
        preview: bool,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Trash {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::Ls { path } => ls(output, &client, &path).await,
            Act::End { id, preview, yes } => {
                let what = api::LetGo { nodes: id, ..Default::default() };
                let_go(output, &client, what, preview, yes).await
            }
            Act::Empty { path, preview, yes } => {
                let folder = client.place(&connection::normalised(&path)?, None).await?.node.id;
                let what = api::LetGo { folder: Some(folder), ..Default::default() };
                let_go(output, &client, what, preview, yes).await
            }
        }
    }
}

async fn ls(output: Output, client: &Client, path: &str) -> Done {
    let node = client.place(&connection::normalised(path)?, None).await?.node.id;
    let mut query = api::PageQuery { limit: Some(500), cursor: None };
    let mut all = client.trash(node, &query).await?;
    while let Some(next) = all.next.take() {
        query.cursor = Some(next);
        let more = client.trash(node, &query).await?;
        all.items.extend(more.items);
        all.next = more.next;
    }
    if output.object(&all)? {
        return Ok(());
    }
    if all.items.is_empty() {
        output.say("Nothing was removed from here that could still be brought back.");
        return Ok(());
    }
    let mut rows = vec![["id", "size", "removed", "by", "goes", "where it was"].map(String::from).to_vec()];
    rows.extend(all.items.iter().map(|r| {
        let goes = match (&r.goes, r.hold) {
            (_, true) => "held".to_string(),
            (Some(at), _) => time(at),
            (None, _) => "never".into(),
        };
        let by = r.removed_by.clone().unwrap_or_default();
        let folder = if r.node.kind == api::Kind::Folder { "/" } else { "" };
        vec![
            r.node.id.to_string(),
            size(r.node.size),
            time(&r.removed),
            by,
            goes,
            format!("{}{folder}", r.path),
        ]
    }));
    table(&rows, &[0, 1]);
    output.say(format!(
        "{} in {}. Bring back: yattic restore PATH",
        size(all.bytes),
        count(all.files, "file")
    ));
    Ok(())
}

/// Tells what goes, asks, and lets it go.
pub async fn let_go(output: Output, client: &Client, what: api::LetGo, preview: bool, yes: bool) -> Done {
    let told = client.let_go(&api::LetGo { preview: true, ..what.clone() }).await?;
    if preview {
        return show(output, &told, "would go for good");
    }
    if !yes && !output.json {
        show(output, &told, "would go for good")?;
    }
    if told.states > 0 {
        sure(
            yes,
            &format!("{} and {} would go for good", count(told.states as i64, "state"), size(told.bytes)),
            "Let go?",
        )?;
    }
    let token = Some(told.token);
    let done =
        proved(client, async || client.let_go(&api::LetGo { token: token.clone(), ..what.clone() }).await)
            .await?;
    if output.object(&done)? {
        return Ok(());
    }
    output.say(format!("Gone for good: {}, {}.", count(done.states as i64, "state"), size(done.bytes)));
    Ok(())
}

/// What goes, by shelf and reason.
pub fn show(output: Output, told: &api::Going, word: &str) -> Done {
    if output.object(told)? {
        return Ok(());
    }
    println!("{} of {} {word}.", count(told.states as i64, "state"), size(told.bytes));
    let mut rows = vec![["shelf", "why", "states", "size", "oldest", "newest"].map(String::from).to_vec()];
    rows.extend(told.sums.iter().map(|s| {
        let states = s.states.to_string();
        vec![s.shelf.clone(), s.why.clone(), states, size(s.bytes), time(&s.oldest), time(&s.newest)]
    }));
    if rows.len() > 1 {
        table(&rows, &[2, 3]);
    }
    for (name, why) in &told.kept {
        println!("\"{name}\" stays: {why}.");
    }
    Ok(())
}
