//! `yattic connect`

use crate::connection::{self, Connection};
use crate::output::{Done, Failure, Output};
use std::io::{BufRead, IsTerminal, Write};
use yellow_attic_client::{Client, api};

/// Sign this computer in to a service.
///
/// The computer gets a token of its own, kept in a file that only you can read. The password
/// is asked for on a terminal, or read from standard input with --password-stdin.
#[derive(clap::Args)]
pub struct Connect {
    /// The service's address, such as https://files.example.org
    address: String,
    /// The sign-in name; asked for if it is not given.
    #[arg(long, value_name = "NAME")]
    sign_in: Option<String>,
    /// What to call this computer; its host name if it is not given.
    #[arg(long, value_name = "NAME")]
    device: Option<String>,
    /// Read the password from standard input.
    #[arg(long)]
    password_stdin: bool,
    /// A code of the authenticator, or a recovery code; asked for if it is needed.
    #[arg(long, value_name = "CODE")]
    code: Option<String>,
}

impl Connect {
    pub async fn run(self, output: Output) -> Done {
        let address = match self.address.split_once("://") {
            Some(("http" | "https", _)) => self.address.clone(),
            Some(_) => {
                return Err(Failure::usage("the address begins with neither http:// nor https://", ""));
            }
            None => format!("https://{}", self.address),
        };
        let client = Client::new(&address, None)?;
        let welcome = client.welcome().await?;
        if welcome.needs_set_up {
            return Err(Failure::failed(
                "this service has no administrator yet",
                "Open the address that yatticd serve printed, and become it first.",
            ));
        }
        let terminal = std::io::stdin().is_terminal();
        let sign_in = match self.sign_in {
            Some(name) => name,
            None if terminal => ask("Sign-in name: ")?,
            None => return Err(Failure::usage("no sign-in name", "Give it with --sign-in NAME.")),
        };
        let password = if self.password_stdin {
            let mut line = String::new();
            std::io::stdin().lock().read_line(&mut line)?;
            line.trim_end_matches(['\r', '\n']).to_string()
        } else if terminal {
            rpassword::prompt_password("Password: ")?
        } else {
            return Err(Failure::usage(
                "standard input is no terminal to ask for the password on",
                "Give --password-stdin.",
            ));
        };
        let device = self.device.unwrap_or_else(|| {
            rustix::system::uname()
                .nodename()
                .to_str()
                .ok()
                .filter(|n| !n.is_empty())
                .unwrap_or("computer")
                .to_string()
        });
        let mut asked =
            api::NewDevice { sign_in: sign_in.clone(), password, device: device.clone(), code: self.code };
        let token = match client.connect(&asked).await {
            Err(e) if e.code() == Some("second_factor_needed") && terminal => {
                asked.code = Some(ask("Code of your authenticator, or a recovery code: ")?);
                client.connect(&asked).await?.token
            }
            Err(e) if e.code() == Some("second_factor_needed") => {
                return Err(Failure::failed(
                    "the password is right, and this account has a second factor",
                    "Give a code with --code; whoever has a passkey only uses a recovery code here.",
                ));
            }
            other => other?.token,
        };
        connection::save(&Connection { address: address.clone(), sign_in: sign_in.clone(), token })?;
        output.done(
            &serde_json::json!({ "address": address, "sign_in": sign_in, "device": device }),
            format!("Connected to {address} as {sign_in}; this computer is called \"{device}\"."),
        )
    }
}

fn ask(question: &str) -> Result<String, Failure> {
    eprint!("{question}");
    std::io::stderr().flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim().to_string())
}
