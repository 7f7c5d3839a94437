//! `yattic unshare`

use crate::connection::{self, proved, subject};
use crate::output::{Done, Failure, Output};

/// End a right that was given to somebody on a file or folder.
///
/// Nothing of theirs or yours is removed. What was given to you alone you can give back.
#[derive(clap::Args)]
pub struct Unshare {
    /// On what, as shelf:/path
    path: String,
    /// Whose: an account's name, group:NAME, or everyone; yours, if it is left out.
    #[arg(long, value_name = "WHO")]
    with: Option<String>,
}

impl Unshare {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let facts = connection::place(&client, &self.path, None).await?;
        let Some(with) = self.with else {
            let given = client.shelves().await?.given;
            let mine = given.iter().find(|g| g.node.id == facts.node.id).and_then(|g| g.grant);
            let Some(grant) = mine else {
                return Err(Failure::failed(
                    format!("{} was not given to you alone", facts.path),
                    "Ask who manages it; yattic why tells where your right comes from.",
                ));
            };
            proved(&client, async || client.end_grant(grant).await).await?;
            return output.done(&facts, format!("{} is no longer given to you.", facts.path));
        };
        let to = subject(&with);
        let reach = client.rights(facts.node.id).await?;
        let here: Vec<_> = reach.grants.iter().filter(|g| g.node == facts.node.id).collect();
        let Some(grant) = here.iter().find(|g| g.to.eq_ignore_ascii_case(&to)) else {
            let above = reach.grants.iter().find(|g| g.to.eq_ignore_ascii_case(&to) && g.counts);
            let remedy = match above.and_then(|g| g.path.as_ref()) {
                Some(path) => format!("It is given on {path}: end it there, or deny it here."),
                None => format!("See who may, and why: yattic who {}", facts.path),
            };
            return Err(Failure::failed(
                format!("nothing is given to {to} on {} itself", facts.path),
                remedy,
            ));
        };
        let id = grant.id;
        proved(&client, async || client.end_grant(id).await).await?;
        output.done(grant, format!("{} is no longer given to {}.", facts.path, grant.to_name))
    }
}
