//! `yattic mail`

use crate::connection;
use crate::output::{Done, Failure, Output, table, time};

/// See what mail goes out, and try the mail server (administrators).
#[derive(clap::Args)]
pub struct Mail {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// List the latest letters: waiting, sent, given up, and what the server said.
    Ls,
    /// Send a letter at once, and tell what the mail server says.
    Test {
        /// To which address.
        to: String,
    },
    /// Try a letter that waits again now.
    Again {
        /// Its number, from yattic mail ls.
        letter: i64,
    },
    /// Give up a letter that waits.
    End {
        /// Its number, from yattic mail ls.
        letter: i64,
    },
}

impl Mail {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::Ls => {
                let mail = client.mail().await?;
                if output.object(&mail)? {
                    return Ok(());
                }
                match (&mail.server, &mail.from) {
                    (Some(server), Some(from)) => output.say(format!("By {server}, from {from}.")),
                    _ => output.say(
                        "No mail server is set: nothing goes out. Addresses are shown instead, to pass on.",
                    ),
                }
                if mail.letters.is_empty() {
                    return Ok(());
                }
                let head = ["letter", "to", "about", "written", "state", "the server said"];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(mail.letters.iter().map(|l| {
                    let state = match (&l.sent, &l.due) {
                        (Some(at), _) => format!("sent {}", time(at)),
                        (None, Some(at)) if l.tries > 0 => {
                            format!("tried {} times, next {}", l.tries, time(at))
                        }
                        _ => l.state.clone(),
                    };
                    vec![
                        l.id.to_string(),
                        l.to.clone(),
                        l.kind.clone(),
                        time(&l.written),
                        state,
                        l.said.clone(),
                    ]
                }));
                table(&rows, &[0]);
            }
            Act::Test { to } => {
                let tested = client.test_mail(&to).await?;
                if !tested.taken {
                    return Err(Failure::failed(tested.said, tested.remedy).coded("mail_refused"));
                }
                output.done(&tested, format!("The mail server took it: {}", tested.said))?;
            }
            Act::Again { letter } => {
                client.change_letter(letter, true).await?;
                let object = serde_json::json!({ "letter": letter, "again": true });
                output.done(&object, format!("Letter {letter} is tried again at once."))?;
            }
            Act::End { letter } => {
                client.change_letter(letter, false).await?;
                let object = serde_json::json!({ "letter": letter, "ended": true });
                output.done(&object, format!("Letter {letter} is dropped."))?;
            }
        }
        Ok(())
    }
}
