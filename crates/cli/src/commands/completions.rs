//! `yattic completions`

use crate::output::Done;

/// Print the completions of a shell: source them, or put them where it looks for them.
#[derive(clap::Args)]
pub struct Completions {
    /// Which shell.
    shell: clap_complete::Shell,
}

impl Completions {
    pub fn run(self, command: &mut clap::Command) -> Done {
        clap_complete::generate(self.shell, command, "yattic", &mut std::io::stdout());
        Ok(())
    }
}
