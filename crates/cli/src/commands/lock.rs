//! `yattic lock`

use crate::connection;
use crate::output::{Done, Failure, Output, time};

/// Lock a file or folder: nobody else changes it until you end that.
///
/// It holds for everybody and every way in: the console, other computers, WebDAV, links. It ends by
/// itself after the time given; lock it again to go on.
#[derive(clap::Args)]
pub struct Lock {
    /// Which, as shelf:/path
    path: String,
    /// For how long, such as 30m, 4h or 2d; a week at most.
    #[arg(long = "for", value_name = "TIME", default_value = "1h")]
    lasts: String,
}

/// Minutes of a time such as 30m, 4h, 2d.
fn minutes(text: &str) -> Option<u32> {
    let (number, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    let number: u32 = number.parse().ok().filter(|n| *n > 0)?;
    match unit {
        "m" => Some(number),
        "h" => number.checked_mul(60),
        "d" => number.checked_mul(60 * 24),
        _ => None,
    }
    .filter(|m| *m <= 7 * 24 * 60)
}

impl Lock {
    pub async fn run(self, output: Output) -> Done {
        let minutes = minutes(&self.lasts).ok_or_else(|| {
            Failure::usage(format!("{} is no time up to a week", self.lasts), "Write it like 30m, 4h or 2d.")
        })?;
        let client = connection::client()?;
        let facts = connection::place(&client, &self.path, None).await?;
        let lock = client.lock(facts.node.id, minutes).await?;
        if !output.object(&lock)? {
            output.say(format!(
                "Locked {} until {}. End it with: yattic unlock \"{}\"",
                facts.path,
                time(&lock.until),
                facts.path
            ));
        }
        Ok(())
    }
}
