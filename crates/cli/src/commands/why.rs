//! `yattic why`

use crate::connection;
use crate::output::{Done, Failure, Output};

/// Explain what an account may do at a place: every grant on the way, and what became of it.
///
/// The answer comes from the same function that decides. Of others it is told to whoever manages
/// the place; of yourself, always.
#[derive(clap::Args)]
pub struct Why {
    /// Whose right; yours, if it is left out.
    #[arg(value_names = ["ACCOUNT", "PATH"], num_args = 1..=2)]
    of: Vec<String>,
}

impl Why {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let (account, path) = match &self.of[..] {
            [path] => (None, path),
            [account, path] => (Some(account.strip_prefix("account:").unwrap_or(account)), path),
            _ => return Err(Failure::usage("no place is named", "yattic why [ACCOUNT] PATH")),
        };
        let facts = connection::place(&client, path, None).await?;
        let why = client.why(facts.node.id, account).await?;
        if output.object(&why)? {
            return Ok(());
        }
        println!("{}: {}", facts.path, why.sentence);
        for reason in &why.reasons {
            println!("  {}", reason.sentence);
        }
        Ok(())
    }
}
