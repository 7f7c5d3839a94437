//! `yattic link`

use super::opening::{self, Terms, Which};
use crate::output::{Done, Output};
use yellow_attic_client::api;

/// Give a file or folder out to anybody who has an address.
///
/// A link acts within your own present rights: when you no longer manage what it opens, it does
/// not open. It never shows history.
#[derive(clap::Args)]
pub struct Link {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make a link; its address is printed.
    New {
        /// The file or folder, as shelf:/path
        path: String,
        /// What strangers may do: view (look only), download, add (put things in), edit.
        #[arg(long, value_name = "LEVEL", value_parser = ["view", "download", "add", "edit"], default_value = "download")]
        can: String,
        /// An ending of your own for the address: small letters, digits, hyphens. It can be guessed.
        #[arg(long, value_name = "ENDING")]
        ending: Option<String>,
        /// Send the address by mail; can be said several times.
        #[arg(long, value_name = "ADDRESS")]
        mail: Vec<String>,
        #[command(flatten)]
        terms: Terms,
    },
    /// List links, with what they open, their state, and how often they were used.
    Ls(Which),
    /// Tell all of one link.
    Show {
        /// Its number, from yattic link ls.
        link: i64,
        /// Draw the address as a QR code too.
        #[arg(long)]
        qr: bool,
    },
    /// Change a link: what is not said stays as it is.
    Set {
        /// Its number, from yattic link ls.
        link: i64,
        /// What strangers may do.
        #[arg(long, value_name = "LEVEL", value_parser = ["view", "download", "add", "edit"])]
        can: Option<String>,
        /// Close it for now, or let it go on.
        #[arg(long, value_name = "ON|OFF", value_parser = ["on", "off"])]
        paused: Option<String>,
        /// Let it open again after its file or folder was removed and brought back.
        #[arg(long)]
        confirm: bool,
        /// Open it again after it was ended.
        #[arg(long)]
        again: bool,
        #[command(flatten)]
        terms: Terms,
    },
    /// End links. Nothing of what they opened is removed.
    End {
        /// Their numbers, from yattic link ls.
        #[arg(required = true)]
        links: Vec<i64>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Link {
    pub async fn run(self, output: Output) -> Done {
        match self.act {
            Act::New { path, can, ending, mail, terms } => {
                let set = api::OpeningSet { can: Some(can), ..terms.set()? };
                let new = api::NewOpening { kind: "link".into(), node: 0, ending, set };
                opening::make(output, new, &path, mail).await
            }
            Act::Ls(which) => opening::list(output, which, Some("link")).await,
            Act::Show { link, qr } => opening::show(output, "link", link, qr).await,
            Act::Set { link, can, paused, confirm, again, terms } => {
                let set = api::OpeningSet {
                    can,
                    paused: paused.map(|p| p == "on"),
                    confirmed: confirm,
                    ended: again.then_some(false),
                    ..terms.set()?
                };
                opening::set(output, "link", link, set).await
            }
            Act::End { links, yes } => opening::end(output, "link", links, yes).await,
        }
    }
}
