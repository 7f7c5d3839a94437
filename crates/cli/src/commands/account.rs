//! `yattic account`

use crate::connection::{self, new_password, proved, sure};
use crate::output::{Done, Failure, Output, size, table, time};
use yellow_attic_client::{Client, api};

/// Make, show and change accounts (administrators).
#[derive(clap::Args)]
pub struct Account {
    #[command(subcommand)]
    act: Act,
}

#[derive(clap::Subcommand)]
enum Act {
    /// Make an account with its home shelf. Prints an address by which its owner chooses a password, once.
    New {
        /// The sign-in name: 1 to 64 of a-z, 0-9, ".", "-", "_".
        name: String,
        /// The name to show; the sign-in name if it is not given.
        #[arg(long, value_name = "TEXT", default_value = "")]
        display_name: String,
        /// Its mail address.
        #[arg(long)]
        mail: Option<String>,
        /// What it may do beside using its files.
        #[arg(long, value_parser = ["administrator", "member"], default_value = "member")]
        role: String,
        /// A group it comes into; can be given several times.
        #[arg(long, value_name = "NAME")]
        group: Vec<String>,
        /// Set a first password instead, asked for twice on the terminal.
        #[arg(long)]
        password: bool,
        /// The same, read from standard input.
        #[arg(long)]
        password_stdin: bool,
    },
    /// Make another address by which a password is chosen, once; earlier ones count no more.
    Invite {
        /// The sign-in name.
        name: String,
    },
    /// List all accounts.
    Ls,
    /// Show one account.
    Show {
        /// The sign-in name.
        name: String,
    },
    /// Change an account. What is not named stays.
    Set {
        /// The sign-in name.
        name: String,
        /// The name to show.
        #[arg(long, value_name = "TEXT")]
        display_name: Option<String>,
        /// The mail address; "" removes it.
        #[arg(long)]
        mail: Option<String>,
        /// What it may do beside using its files.
        #[arg(long, value_parser = ["administrator", "member"])]
        role: Option<String>,
        /// Set a new password. It signs the account out everywhere and disconnects its computers.
        #[arg(long)]
        password: bool,
        /// Read the new password from standard input.
        #[arg(long, requires = "password")]
        password_stdin: bool,
        /// Let a disabled account in again.
        #[arg(long)]
        enable: bool,
    },
    /// Disable an account: it can do nothing, and nothing of its is lost. `set --enable` takes it back.
    End {
        /// The sign-in name.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Account {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { name, display_name, mail, role, group, password, password_stdin } => {
                let chosen = password || password_stdin;
                let password = if chosen { Some(new_password(password_stdin)?) } else { None };
                let role = Some(role);
                let new =
                    api::NewAccount { sign_in: name, display_name, mail, role, password, groups: group };
                let made = proved(&client, async || client.make_account(&new).await).await?;
                if !chosen {
                    return invite(output, &client, &made.sign_in).await;
                }
                if !output.object(&made)? {
                    output.say(format!("{} ({}) can sign in.", made.sign_in, made.display_name));
                }
            }
            Act::Invite { name } => invite(output, &client, &name).await?,
            Act::Ls => {
                let all = client.accounts().await?;
                if output.object(&all)? {
                    return Ok(());
                }
                let head = ["account", "name", "role", "home", "groups", ""];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(all.accounts.iter().map(|a| {
                    vec![
                        a.sign_in.clone(),
                        a.display_name.clone(),
                        a.role.clone(),
                        size(a.bytes),
                        a.groups.join(", "),
                        match &a.disabled {
                            Some(since) => format!("disabled {}", time(since)),
                            None if a.invited => "no password chosen yet".to_string(),
                            None => String::new(),
                        },
                    ]
                }));
                table(&rows, &[3]);
            }
            Act::Show { name } => show(output, &find(&client, &name).await?)?,
            Act::Set { name, display_name, mail, role, password, password_stdin, enable } => {
                let password = if password { Some(new_password(password_stdin)?) } else { None };
                let disabled = enable.then_some(false);
                let change = api::AccountChange { display_name, mail, role, password, disabled };
                let done = proved(&client, async || client.change_account(&name, &change).await).await?;
                show(output, &done)?;
            }
            Act::End { name, yes } => {
                let account = find(&client, &name).await?;
                let what = format!(
                    "{} ({}) will be signed out everywhere; its {} stay",
                    account.sign_in,
                    account.display_name,
                    size(account.bytes)
                );
                sure(yes, &what, "Disable it?")?;
                let change = api::AccountChange { disabled: Some(true), ..Default::default() };
                let done = proved(&client, async || client.change_account(&name, &change).await).await?;
                if !output.object(&done)? {
                    output.say(format!(
                        "{} is disabled. Let it in again with: yattic account set {} --enable",
                        done.sign_in, done.sign_in
                    ));
                }
            }
        }
        Ok(())
    }
}

async fn invite(output: Output, client: &Client, name: &str) -> Done {
    let made = proved(client, async || client.invite(name).await).await?;
    if !output.object(&made)? {
        output.say(format!("Pass this on to {name}. It counts once, until {}:", time(&made.expires)));
        println!("{}", made.address);
    }
    Ok(())
}

async fn find(client: &Client, name: &str) -> Result<api::Account, Failure> {
    let found = client.accounts().await?.accounts.into_iter().find(|a| a.sign_in == name);
    found.ok_or_else(|| {
        Failure::failed(format!("there is no account \"{name}\""), "List them: yattic account ls")
    })
}

fn show(output: Output, account: &api::Account) -> Done {
    if output.object(account)? {
        return Ok(());
    }
    let mut rows = vec![
        vec!["account".to_string(), account.sign_in.clone()],
        vec!["name".to_string(), account.display_name.clone()],
        vec!["role".to_string(), account.role.clone()],
        vec!["groups".to_string(), account.groups.join(", ")],
        vec!["home".to_string(), format!("{} ({} bytes)", size(account.bytes), account.bytes)],
    ];
    if let Some(mail) = &account.mail {
        rows.push(vec!["mail".to_string(), mail.clone()]);
    }
    if let Some(since) = &account.disabled {
        rows.push(vec!["disabled".to_string(), time(since)]);
    }
    table(&rows, &[]);
    Ok(())
}
