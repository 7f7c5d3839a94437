//! `yattic disconnect`

use crate::connection;
use crate::output::{Done, Output};

/// End this computer's sign-in: its token counts no more.
#[derive(clap::Args)]
pub struct Disconnect {
    /// Forget the token here even if the service cannot be told.
    #[arg(long)]
    forget: bool,
}

impl Disconnect {
    pub async fn run(self, output: Output) -> Done {
        let known = connection::load()?;
        let told = connection::client()?.disconnect().await;
        let ended = told.as_ref().is_err_and(|e| e.code() == Some("not_signed_in"));
        if !self.forget && !ended {
            told?;
        }
        connection::forget()?;
        output.done(
            &serde_json::json!({ "address": known.address, "sign_in": known.sign_in }),
            format!("Disconnected from {}.", known.address),
        )
    }
}
