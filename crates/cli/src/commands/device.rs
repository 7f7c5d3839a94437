//! `yattic device`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Failure, Output, table, time};

/// See the computers that are connected in your name, and disconnect them.
#[derive(clap::Args)]
pub struct Device {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List your connected computers, with when and from where each was last used.
    Ls,
    /// Disconnect one: its token counts no more, at once. For this one: yattic disconnect.
    End {
        /// Its name or its number, from yattic device ls.
        device: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Device {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let all = client.devices().await?;
        match self.act {
            Act::Ls => {
                if output.object(&all)? {
                    return Ok(());
                }
                let head = ["device", "name", "connected", "last used", "from", ""];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(all.devices.iter().map(|d| {
                    vec![
                        d.id.to_string(),
                        d.name.clone(),
                        time(&d.connected),
                        d.used.as_deref().map_or_else(|| "never".to_string(), time),
                        d.used_from.clone().unwrap_or_default(),
                        if d.this { "this one".to_string() } else { String::new() },
                    ]
                }));
                table(&rows, &[0]);
            }
            Act::End { device, yes } => {
                let found: Vec<_> = all
                    .devices
                    .iter()
                    .filter(|d| d.id.to_string() == device || d.name.eq_ignore_ascii_case(&device))
                    .collect();
                let one = match &found[..] {
                    [one] => *one,
                    [] => {
                        return Err(Failure::failed(
                            format!("there is no computer \"{device}\""),
                            "List them: yattic device ls",
                        ));
                    }
                    _ => {
                        return Err(Failure::failed(
                            format!("several computers are called \"{device}\""),
                            "Name one by its number, from yattic device ls.",
                        ));
                    }
                };
                if one.this {
                    return Err(Failure::failed(
                        "that is this computer",
                        "Disconnect it with: yattic disconnect",
                    ));
                }
                sure(yes, &format!("\"{}\" will have to be connected anew", one.name), "Disconnect it?")?;
                proved(&client, async || client.end_device(one.id).await).await?;
                output.say(format!("\"{}\" is disconnected.", one.name));
            }
        }
        Ok(())
    }
}
