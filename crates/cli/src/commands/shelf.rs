//! `yattic shelf`

use crate::connection::{self, proved, subject};
use crate::output::{Done, Failure, Output, size, table};
use yellow_attic_client::api;

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
    },
    /// List the shelves you may enter.
    Ls,
}

impl Shelf {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { name, with } => {
                let person = |word: &String| match word.rsplit_once('=') {
                    Some((who, level)) => Ok(api::ShelfPerson { to: subject(who), level: level.into() }),
                    None => Err(Failure::usage(
                        format!("\"{word}\" names no level"),
                        "Write it like group:Archive=edit or tomas=view.",
                    )),
                };
                let people = with.iter().map(person).collect::<Result<_, _>>()?;
                let new = api::NewShelf { name, people };
                let made = proved(&client, async || client.make_shelf(&new).await).await?;
                if !output.object(&made)? {
                    output.say(format!("The shelf {}:/ is there, for {}.", made.name, made.people));
                }
            }
            Act::Ls => {
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
