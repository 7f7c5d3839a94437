//! `yattic job`

use crate::connection;
use crate::output::{Done, Output, table, time};
use yellow_attic_client::api;

/// Look at work in the background, end it, or begin a backup (administrators).
#[derive(clap::Args)]
pub struct Job {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List what runs and what has ended, and how it stands with backups.
    Ls,
    /// End a job that runs. What it has done stays.
    Stop {
        /// Its number.
        job: i64,
    },
    /// Begin a backup to the folder that the service has set.
    Backup,
}

impl Job {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::Ls => {
                let all = client.jobs().await?;
                if !output.object(&all)? {
                    list(output, &all);
                }
            }
            Act::Stop { job } => {
                client.stop_job(job).await?;
                output.say(format!("Job {job} ends."));
            }
            Act::Backup => {
                client.begin_backup().await?;
                output.say("It has begun: yattic job ls");
            }
        }
        Ok(())
    }
}

fn list(output: Output, all: &api::Jobs) {
    output.say(&all.backup.why);
    if let Some(last) = &all.backup.last {
        output.say(format!(
            "Last whole backup {}: {} files, {}, in {}",
            time(&last.ended),
            last.files,
            yellow_attic_core::size::human(last.bytes),
            last.to
        ));
    }
    if let Some(next) = &all.backup.next {
        output.say(format!("Next {}", time(next)));
    }
    if all.jobs.is_empty() {
        output.say("Nothing has run yet.");
        return;
    }
    let mut rows =
        vec![["job", "kind", "begun", "state", "by", "what became of it"].map(String::from).to_vec()];
    rows.extend(all.jobs.iter().map(|job| {
        let said = match &job.progress {
            Some(going) if going.of > 0 => format!("{}: {} of {}", going.step, going.done, going.of),
            Some(going) => format!("{}: {}", going.step, going.done),
            None => job.said.clone(),
        };
        vec![job.id.to_string(), job.kind.clone(), time(&job.begun), job.state.clone(), job.by.clone(), said]
    }));
    table(&rows, &[0]);
}
