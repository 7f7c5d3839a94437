//! `yattic quota`

use crate::connection::{self, proved};
use crate::output::{Done, Output, size, table};
use yellow_attic_client::api;

/// Show and set how much there may be (administrators).
///
/// A hard line refuses, a soft one only warns. The organisation, shelves, homes and folders can have both,
/// and all that apply hold at once.
#[derive(clap::Args)]
pub struct Quota {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List what has a line, with how full it is.
    Ls {
        /// What has no line as well.
        #[arg(long)]
        all: bool,
    },
    /// Set a line.
    Set {
        /// organisation, home:NAME, shelf:NAME, or a folder such as Plans:/Hall
        of: String,
        /// Nothing passes this, such as "20 GiB"; or none.
        #[arg(long, value_name = "SIZE")]
        hard: Option<String>,
        /// People are warned from here on; or none.
        #[arg(long, value_name = "SIZE")]
        soft: Option<String>,
    },
}

impl Quota {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let (found, all) = match self.act {
            Act::Ls { all } => (client.quotas().await?, all),
            Act::Set { of, hard, soft } => {
                let change = api::QuotaChange { of, soft, hard };
                (proved(&client, async || client.set_quota(&change).await).await?, false)
            }
        };
        if output.object(&found)? {
            return Ok(());
        }
        let line = |n: Option<u64>| n.map_or_else(|| "none".into(), |n| size(n as i64));
        let mut rows = vec![["of", "counts", "soft", "hard", ""].map(String::from).to_vec()];
        let shown = found.quotas.iter().filter(|q| all || q.soft.is_some() || q.hard.is_some());
        rows.extend(shown.map(|q| {
            let remark = match (q.warns, q.by_groups && q.hard.is_some()) {
                (true, _) => "nearly full",
                (_, true) => "by its groups",
                _ => "",
            };
            vec![q.name.clone(), size(q.used as i64), line(q.soft), line(q.hard), remark.into()]
        }));
        table(&rows, &[1, 2, 3]);
        output.say(found.counts);
        Ok(())
    }
}
