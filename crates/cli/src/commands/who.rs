//! `yattic who`

use crate::connection;
use crate::output::{Done, Output, table};

/// Tell everybody who may do something at a place, and which grant decides.
#[derive(clap::Args)]
pub struct Who {
    /// Where, as shelf:/path
    path: String,
}

impl Who {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let facts = connection::place(&client, &self.path, None).await?;
        let who = client.who(facts.node.id).await?;
        if output.object(&who)? {
            return Ok(());
        }
        let mut rows = vec![["who", "name", "may", "because"].map(String::from).to_vec()];
        rows.extend(who.people.iter().map(|p| {
            let decides = p.reasons.iter().find(|r| r.effect == "decides");
            let because = match decides {
                Some(r) => format!(
                    "{} on {}",
                    r.grant.to_name,
                    r.grant.path.as_deref().unwrap_or("a folder further up")
                ),
                None => "owns the shelf".to_string(),
            };
            let may = p.level.clone().unwrap_or_default();
            vec![p.account.clone(), p.display_name.clone(), may, because]
        }));
        table(&rows, &[]);
        Ok(())
    }
}
