//! `yattic disconnect`

use crate::connection;
use crate::output::{Done, Failure, Output};

/// End this computer's sign-in: its token counts no more.
#[derive(clap::Args)]
pub struct Disconnect {
    /// The service's address, if this computer is connected to several; the one that commands mean if it is not given.
    address: Option<String>,
    /// Forget the token here even if the service cannot be told.
    #[arg(long)]
    forget: bool,
}

impl Disconnect {
    pub async fn run(self, output: Output) -> Done {
        let known = match &self.address {
            None => connection::load()?,
            Some(address) => {
                let same = |known: &str| {
                    known == address || known.split_once("://").is_some_and(|(_, k)| k == address)
                };
                let found = connection::all().into_iter().find(|known| same(&known.address));
                found.ok_or_else(|| {
                    let text = format!("this computer is not connected to {address}");
                    Failure::usage(text, "yattic connect lists the services that it is connected to.")
                })?
            }
        };
        let told = match connection::client_of(&known) {
            Ok(client) => client.disconnect().await.map_err(Failure::from),
            Err(failure) => Err(failure),
        };
        let ended = told.as_ref().is_err_and(|e| e.code() == "not_signed_in");
        if !self.forget && !ended {
            told?;
        }
        connection::forget(&known)?;
        output.done(
            &serde_json::json!({ "address": known.address, "sign_in": known.sign_in }),
            format!("Disconnected from {}.", known.address),
        )
    }
}
