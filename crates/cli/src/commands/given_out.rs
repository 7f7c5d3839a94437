//! `yattic given-out`

use super::opening::{self, Which};
use crate::output::{Done, Output};

/// List all that you have given out and take in: links, intakes, and rights given to people.
#[derive(clap::Args)]
pub struct GivenOut {
    #[command(flatten)]
    which: Which,
    /// Only one kind.
    #[arg(long, value_name = "KIND", value_parser = ["link", "intake", "share"])]
    kind: Option<String>,
}

impl GivenOut {
    pub async fn run(self, output: Output) -> Done {
        opening::list(output, self.which, self.kind.as_deref()).await
    }
}
