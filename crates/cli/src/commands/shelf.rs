//! `yattic shelf`

use crate::connection::{self, proved, subject};
use crate::output::{Done, Failure, Output, size, table};
use crate::transfer::{self, Goes};
use yellow_attic_client::{Client, api};

/// Make and show shared shelves (administrators make them).
#[derive(clap::Args)]
pub struct Shelf {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make a shared shelf. You own it; nobody else may enter but those named.
    New {
        /// Its name, also its folder's on the disk.
        name: String,
        /// Who may enter and what they may do, such as group:Archive=edit; can be given several times.
        #[arg(long, value_name = "WHO=LEVEL")]
        with: Vec<String>,
        /// What it is for.
        #[arg(long, value_name = "TEXT", default_value = "")]
        note: String,
        /// How much it may hold, such as "20 GiB".
        #[arg(long, value_name = "SIZE")]
        quota: Option<String>,
        /// An owner, instead of you; can be given several times.
        #[arg(long, value_name = "ACCOUNT")]
        owner: Vec<String>,
    },
    /// List the shelves you may enter.
    Ls {
        /// All shared shelves with owners and quotas, whether you may enter or not (administrators).
        #[arg(long)]
        all: bool,
    },
    /// Say what a shared shelf is for, who owns it, how much it may hold (administrators).
    Set {
        /// Its name.
        name: String,
        /// What it is for.
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
        /// How much it may hold, such as "20 GiB", or none.
        #[arg(long, value_name = "SIZE")]
        quota: Option<String>,
        /// An owner; give all of them, each with --owner.
        #[arg(long, value_name = "ACCOUNT")]
        owner: Vec<String>,
    },
    /// Make a folder a shared shelf, without copying. Whoever could enter it still can (administrators).
    Raise {
        /// The folder, as shelf:/path
        path: String,
        /// The shelf's name; the folder's if it is not given.
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Make a shared shelf a folder, without copying. Its owners may manage the folder (administrators).
    Lower {
        /// The shelf's name.
        name: String,
        /// Where to: a folder, or a new name in one.
        to: String,
    },
}

impl Shelf {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { name, with, note, quota, owner } => {
                let person = |word: &String| match word.rsplit_once('=') {
                    Some((who, level)) => Ok(api::ShelfPerson { to: subject(who), level: level.into() }),
                    None => Err(Failure::usage(
                        format!("\"{word}\" names no level"),
                        "Write it like group:Archive=edit or tomas=view.",
                    )),
                };
                let people = with.iter().map(person).collect::<Result<_, _>>()?;
                let new = api::NewShelf { name, people, note, quota, owners: owner };
                let made = proved(&client, async || client.make_shelf(&new).await).await?;
                if !output.object(&made)? {
                    output.say(format!("The shelf {}:/ is there, for {}.", made.name, made.people));
                }
            }
            Act::Ls { all: true } => {
                let all = client.shared_shelves().await?;
                if output.object(&all)? {
                    return Ok(());
                }
                let head = ["shelf", "owners", "size", "quota", "files", "for"];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(all.shelves.iter().map(|s| {
                    vec![
                        format!("{}:/", s.name),
                        s.owners.join(", "),
                        size(s.bytes as i64),
                        s.quota.map_or_else(|| "none".to_string(), |q| size(q as i64)),
                        s.files.to_string(),
                        s.note.clone(),
                    ]
                }));
                table(&rows, &[2, 3, 4]);
            }
            Act::Set { name, note, quota, owner } => {
                let shelf = shared(&client, &name).await?;
                let owners = Some(owner).filter(|o| !o.is_empty());
                let change = api::ShelfChange { note, quota, owners };
                let done = proved(&client, async || client.change_shelf(shelf.root, &change).await).await?;
                if !output.object(&done)? {
                    output.say(format!(
                        "{}:/ is owned by {}, holds {} of {}.",
                        done.name,
                        done.owners.join(", "),
                        size(done.bytes as i64),
                        done.quota.map_or_else(|| "as much as there is".to_string(), |q| size(q as i64))
                    ));
                }
            }
            Act::Raise { path, name } => {
                let facts = connection::place(&client, &path, None).await?;
                let name = name.unwrap_or_else(|| facts.node.name.clone());
                let made = proved(&client, async || client.raise(facts.node.id, &name).await).await?;
                if !output.object(&made)? {
                    output.say(format!(
                        "{} is the shelf {}:/ now, owned by {}.",
                        facts.path,
                        made.name,
                        made.owners.join(", ")
                    ));
                }
            }
            Act::Lower { name, to } => {
                let shelf = shared(&client, &name).await?;
                let (parent, new) =
                    transfer::remote(&client, &Goes::read(&to, false, false), &name, true).await?;
                let done = proved(&client, async || client.lower(shelf.root, parent, &new).await).await?;
                if !output.object(&done)? {
                    output.say(format!("The shelf {name}:/ is the folder \"{}\" now.", done.name));
                }
            }
            Act::Ls { all: false } => {
                let all = client.shelves().await?;
                if output.object(&all.shelves)? {
                    return Ok(());
                }
                let mut rows = vec![["shelf", "you may", "for", "size"].map(String::from).to_vec()];
                rows.extend(all.shelves.iter().map(|s| {
                    vec![format!("{}:/", s.name), s.level.clone(), s.people.clone(), size(s.sums.bytes)]
                }));
                table(&rows, &[3]);
            }
        }
        Ok(())
    }
}

async fn shared(client: &Client, name: &str) -> Result<api::SharedShelf, Failure> {
    let name = name.trim_end_matches('/').trim_end_matches(':');
    let found = client.shared_shelves().await?.shelves.into_iter().find(|s| s.name == name);
    found.ok_or_else(|| {
        Failure::failed(format!("there is no shared shelf \"{name}\""), "List them: yattic shelf ls --all")
    })
}
