//! `yattic group`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Failure, Output, count, size, table};
use yellow_attic_client::{Client, api};

/// Make, show and change groups (administrators).
///
/// What is given to a group reaches every member, now and later.
#[derive(clap::Args)]
pub struct Group {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make a group.
    New {
        /// Its name.
        name: String,
        /// What it is for.
        #[arg(long, value_name = "TEXT", default_value = "")]
        note: String,
        /// A member's sign-in name; can be given several times.
        #[arg(long, value_name = "ACCOUNT")]
        member: Vec<String>,
    },
    /// List groups.
    Ls {
        /// Words in names and in what they are for.
        #[arg(long, value_name = "WORDS")]
        words: Option<String>,
    },
    /// Show one group and its members.
    Show {
        /// Its name.
        name: String,
    },
    /// Rename a group, say what it is for, change its members. What was given to it stays given.
    Set {
        /// Its name.
        name: String,
        /// Its new name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// What it is for.
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
        /// How much the home of each member may hold, such as "20 GiB", or none.
        #[arg(long, value_name = "SIZE")]
        quota: Option<String>,
        /// A sign-in name that comes in; can be given several times.
        #[arg(long, value_name = "ACCOUNT")]
        add: Vec<String>,
        /// A sign-in name that goes; can be given several times.
        #[arg(long, value_name = "ACCOUNT")]
        remove: Vec<String>,
    },
    /// End a group, and all that was given to it. Its members stay.
    End {
        /// Its name.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Group {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { name, note, member } => {
                let new = api::NewGroup { name, note, members: member };
                let made = proved(&client, async || client.make_group(&new).await).await?;
                show(output, &made)?;
            }
            Act::Ls { words } => {
                let sought = words.is_some();
                let all = client.groups(&api::GroupsQuery { words, ..Default::default() }).await?;
                if output.object(&all)? {
                    return Ok(());
                }
                if all.groups.is_empty() && sought {
                    output.say("No group has these words.");
                    return Ok(());
                }
                if all.groups.is_empty() {
                    output.say("There is no group yet. Make one: yattic group new NAME");
                    return Ok(());
                }
                let mut rows = vec![["group", "members", "for"].map(String::from).to_vec()];
                let row = |g: &api::Group| vec![g.name.clone(), g.people.to_string(), g.note.clone()];
                rows.extend(all.groups.iter().map(row));
                table(&rows, &[1]);
            }
            Act::Show { name } => show(output, &find(&client, &name).await?)?,
            Act::Set { name, rename, note, quota, add, remove } => {
                let change = api::GroupChange { name: rename, note, add, remove, quota };
                let done = proved(&client, async || client.change_group(&name, &change).await).await?;
                show(output, &done)?;
            }
            Act::End { name, yes } => {
                let group = find(&client, &name).await?;
                let members = count(group.people, "member");
                let what = format!("{members} of {} would lose what was given to the group", group.name);
                sure(yes, &what, "End it?")?;
                proved(&client, async || client.end_group(&group.name).await).await?;
                output.done(&group, format!("The group {} is ended.", group.name))?;
            }
        }
        Ok(())
    }
}

async fn find(client: &Client, name: &str) -> Result<api::Group, Failure> {
    Ok(client.group(name).await?)
}

fn show(output: Output, group: &api::Group) -> Done {
    if output.object(group)? {
        return Ok(());
    }
    let members: Vec<_> = group.members.iter().map(|m| m.to.trim_start_matches("account:")).collect();
    let mut rows = vec![vec!["group".to_string(), group.name.clone()]];
    if !group.note.is_empty() {
        rows.push(vec!["for".to_string(), group.note.clone()]);
    }
    if let Some(quota) = group.quota {
        rows.push(vec!["quota".to_string(), format!("{} for each home", size(quota as i64))]);
    }
    if !group.closed.is_empty() {
        rows.push(vec!["closed".to_string(), group.closed.join(", ")]);
    }
    rows.push(vec!["members".to_string(), members.join(", ")]);
    table(&rows, &[]);
    Ok(())
}
