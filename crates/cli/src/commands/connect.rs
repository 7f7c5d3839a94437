//! `yattic connect`

use crate::connection::{self, Connection, keyring};
use crate::output::{Done, Failure, Output};
use std::io::{BufRead, IsTerminal, Write};
use std::time::{Duration, Instant};
use yellow_attic_client::{Client, api};
use yellow_attic_sync::patience::may_pass;

/// Sign this computer in to a service.
///
/// It shows a short code, which you type in the console in a browser where you are signed in: there you choose what
/// this computer may reach, and no password is typed here. With --sign-in the password is asked for here instead, on the
/// terminal or with --password-stdin. The computer gets a token of its own, which is kept in the desktop's keyring where
/// there is one.
///
/// A computer can be connected to several services: commands mean the one that was named last, and pairs stay with theirs.
#[derive(clap::Args)]
pub struct Connect {
    /// The service's address, such as https://files.example.org; without it, the services that this computer is connected to
    /// are listed.
    address: Option<String>,
    /// What to call this computer; its host name if it is not given.
    #[arg(long, value_name = "NAME")]
    device: Option<String>,
    /// Sign in here, with this name and its password, instead of by a code in the browser.
    #[arg(long, value_name = "NAME")]
    sign_in: Option<String>,
    /// Read the password from standard input.
    #[arg(long, requires = "sign_in")]
    password_stdin: bool,
    /// A code of the authenticator, or a recovery code; asked for if it is needed.
    #[arg(long, value_name = "CODE", requires = "sign_in")]
    code: Option<String>,
    /// Sign in anew, even if this computer is connected there already.
    #[arg(long)]
    anew: bool,
    /// Keep the token in a file that only you can read, even if there is a keyring.
    #[arg(long)]
    token_in_file: bool,
}

/// Between two questions whose answer did not come.
const AGAIN: Duration = Duration::from_secs(3);

impl Connect {
    pub async fn run(self, output: Output) -> Done {
        let Some(named) = &self.address else { return list(output) };
        let address = match named.split_once("://") {
            Some(("http" | "https", _)) => named.trim_end_matches('/').to_string(),
            Some(_) => {
                return Err(Failure::usage("the address begins with neither http:// nor https://", ""));
            }
            None => format!("https://{}", named.trim_end_matches('/')),
        };
        let fresh = self.anew || self.sign_in.is_some() || self.device.is_some() || self.token_in_file;
        if !fresh && let Some(known) = connection::all().into_iter().find(|c| c.address == address) {
            // A token that counts no more is no reason to stop.
            let counts = match connection::client_of(&known) {
                Ok(client) => client.welcome().await?.me.is_some(),
                Err(_) => false,
            };
            if counts {
                connection::take(&known)?;
                return output.done(
                    &serde_json::json!({ "address": address, "sign_in": known.sign_in }),
                    format!("Connected to {address} as {} already: commands mean it now.", known.sign_in),
                );
            }
        }
        let client = Client::new(&address, None)?;
        let welcome = client.welcome().await?;
        if welcome.needs_set_up {
            return Err(Failure::failed(
                "this service has no administrator yet",
                "Open the address that yatticd serve printed, and become it first.",
            ));
        }
        let device = self.device.clone().unwrap_or_else(connection::host_name);
        let token = match &self.sign_in {
            Some(sign_in) => self.by_password(&client, sign_in, &device).await?,
            None => by_code(&client, &device).await?,
        };
        let client = Client::new(&address, Some(&token))?;
        let me = client.welcome().await?.me;
        let sign_in = me.map(|me| me.sign_in).or(self.sign_in).unwrap_or_default();
        let keyring = !self.token_in_file && keyring::is_there();
        if keyring {
            keyring::keep(&address, &sign_in, &token)?;
        }
        let token = if keyring { String::new() } else { token };
        let (its, name) = (address.clone(), sign_in.clone());
        connection::take(&Connection { address: its, sign_in: name, token, keyring })?;
        output.done(
            &serde_json::json!({ "address": address, "sign_in": sign_in, "device": device }),
            format!("Connected to {address} as {sign_in}; this computer is called \"{device}\"."),
        )
    }

    async fn by_password(&self, client: &Client, sign_in: &str, device: &str) -> Result<String, Failure> {
        let terminal = std::io::stdin().is_terminal();
        let password = if self.password_stdin {
            let mut line = String::new();
            std::io::stdin().lock().read_line(&mut line)?;
            line.trim_end_matches(['\r', '\n']).to_string()
        } else if terminal {
            rpassword::prompt_password("Password: ")?
        } else {
            return Err(Failure::usage(
                "standard input is no terminal to ask for the password on",
                "Give --password-stdin, or leave --sign-in out and connect by a code in the browser.",
            ));
        };
        let mut asked = api::NewDevice {
            sign_in: sign_in.to_string(),
            password,
            device: device.to_string(),
            code: self.code.clone(),
        };
        match client.connect(&asked).await {
            Err(e) if e.code() == Some("second_factor_needed") && terminal => {
                asked.code = Some(ask("Code of your authenticator, or a recovery code: ")?);
                Ok(client.connect(&asked).await?.token)
            }
            Err(e) if e.code() == Some("second_factor_needed") => Err(Failure::failed(
                "the password is right, and this account has a second factor",
                "Give a code with --code, or leave --sign-in out: in the browser a passkey serves as well.",
            )),
            other => Ok(other?.token),
        }
    }
}

fn list(output: Output) -> Done {
    let all = connection::all();
    let told: Vec<_> = all
        .iter()
        .map(|c| serde_json::json!({ "address": c.address, "sign_in": c.sign_in, "keyring": c.keyring }))
        .collect();
    if output.object(&told)? {
        return Ok(());
    }
    let meant = connection::load().ok().map(|c| c.address);
    if all.is_empty() {
        output.say("This computer is connected to no service. Connect it: yattic connect ADDRESS");
    }
    for known in all {
        let means = if meant.as_ref() == Some(&known.address) { "   (commands mean this one)" } else { "" };
        println!("{}  as {}{means}", known.address, known.sign_in);
    }
    Ok(())
}

/// Shows a code, and waits until somebody has answered it in the console.
async fn by_code(client: &Client, device: &str) -> Result<String, Failure> {
    let program = format!("yattic {}", env!("CARGO_PKG_VERSION"));
    let begun = api::NewConnection { device: device.to_string(), program };
    let asked = client.begin_connection(&begun).await?;
    eprintln!(
        "Open this address in a browser where you are signed in, or can sign in:\n\n    {}\n\nand type this code:\n\n    {}\n\nIt counts for {} minutes. Ctrl+C gives up.",
        asked.verification_uri,
        asked.user_code,
        asked.expires_in.div_ceil(60)
    );
    let mut wait = Duration::from_secs(asked.interval.clamp(1, 60));
    let ends = Instant::now() + Duration::from_secs(asked.expires_in);
    loop {
        tokio::time::sleep(wait).await;
        match client.collect_connection(&asked.device_code).await {
            Ok(told) => return Ok(told.token),
            Err(e) if e.code() == Some("authorization_pending") => {}
            // As RFC 8628 has it: five seconds more, from now on.
            Err(e) if e.code() == Some("slow_down") => wait += Duration::from_secs(5),
            // A line that broke is no answer.
            Err(e) if may_pass(&e) && Instant::now() < ends => tokio::time::sleep(AGAIN).await,
            Err(e) => return Err(e.into()),
        }
    }
}

fn ask(question: &str) -> Result<String, Failure> {
    eprint!("{question}");
    std::io::stderr().flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim().to_string())
}
