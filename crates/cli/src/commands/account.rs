//! `yattic account`

use crate::connection::{self, new_password, proved, sure};
use crate::output::{Done, Failure, Output, count, size, table, time};
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
        /// How much its home may hold, such as "20 GiB"; what its groups say if it is not given.
        #[arg(long, value_name = "SIZE")]
        quota: Option<String>,
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
    /// List accounts.
    Ls {
        /// Words in sign-in names, names, mail addresses and groups.
        #[arg(long, value_name = "WORDS")]
        words: Option<String>,
        /// Only those of a role.
        #[arg(long, value_parser = ["administrator", "member", "guest"])]
        role: Option<String>,
        /// Only those in a state: invited has no password yet, leaving is to be deleted.
        #[arg(long, value_parser = ["active", "disabled", "waiting", "invited", "leaving"])]
        state: Option<String>,
    },
    /// Show one account: its facts, what it may reach and why, where it is signed in, what it did last.
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
        /// How much its home may hold, such as "20 GiB"; none: what its groups say.
        #[arg(long, value_name = "SIZE")]
        quota: Option<String>,
        /// A group it is in from now on; can be given several times. Those not named are left; "" leaves all.
        #[arg(long, value_name = "NAME")]
        group: Vec<String>,
        /// Take its second factors away: for somebody who has lost them.
        #[arg(long)]
        forget_factors: bool,
        /// Let it stay after all, disabled, when it was to be deleted.
        #[arg(long)]
        keep: bool,
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
    /// End one of its sign-ins, by the number that show tells; or its open invitation.
    #[command(group(
        clap::ArgGroup::new("which").required(true).multiple(true).args(["computer", "browser", "invitation"])
    ))]
    SignOut {
        /// The sign-in name.
        name: String,
        /// A connected computer.
        #[arg(long, value_name = "ID")]
        computer: Option<i64>,
        /// A browser.
        #[arg(long, value_name = "ID")]
        browser: Option<String>,
        /// The invitation that was not used yet.
        #[arg(long)]
        invitation: bool,
    },
    /// Disable an account: it can do nothing, and nothing of its is lost. `set --enable` takes it back.
    End {
        /// The sign-in name.
        name: String,
        /// Have a disabled account deleted, after --days. Shows first what would go.
        #[arg(long)]
        delete: bool,
        /// After how many days; until then it can be undone with set --keep.
        #[arg(long, value_name = "N", requires = "delete", default_value_t = 30)]
        days: u32,
        /// Who gets its files then, as one folder; without it they are out of reach then.
        #[arg(long, value_name = "ACCOUNT", requires = "delete")]
        files_to: Option<String>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Make and change many accounts from a list: CSV whose first line names the columns.
    ///
    /// Columns: sign_in, display_name, mail, groups (with | between them), quota, role. Commas,
    /// semicolons or tabs between fields. Each row's fate is told first; a bad row stops no other.
    Import {
        /// The list; - is standard input.
        list: String,
        /// Only tell what would happen.
        #[arg(long)]
        preview: bool,
        /// Change accounts that are there already.
        #[arg(long)]
        change: bool,
        /// Send an invitation to each new account with a mail address.
        #[arg(long)]
        invite: bool,
        /// Which heading is which column, such as Kürzel=sign_in; an empty column leaves it out.
        #[arg(long, value_name = "HEADING=COLUMN")]
        column: Vec<String>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

impl Account {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        match self.act {
            Act::New { name, display_name, mail, role, group, quota, password, password_stdin } => {
                let chosen = password || password_stdin;
                let password = if chosen { Some(new_password(password_stdin)?) } else { None };
                let role = Some(role);
                let new = api::NewAccount {
                    sign_in: name,
                    display_name,
                    mail,
                    role,
                    password,
                    groups: group,
                    quota,
                };
                let made = proved(&client, async || client.make_account(&new).await).await?;
                if !chosen {
                    return invite(output, &client, &made.sign_in).await;
                }
                if !output.object(&made)? {
                    output.say(format!("{} ({}) can sign in.", made.sign_in, made.display_name));
                }
            }
            Act::Invite { name } => invite(output, &client, &name).await?,
            Act::Ls { words, role, state } => {
                let query = api::AccountsQuery { words, role, state, ..Default::default() };
                let all = client.accounts(&query).await?;
                if output.object(&all)? {
                    return Ok(());
                }
                if all.accounts.is_empty() {
                    output.say("No account is like that.");
                    return Ok(());
                }
                let head = ["account", "name", "role", "home", "groups", ""];
                let mut rows = vec![head.map(String::from).to_vec()];
                rows.extend(all.accounts.iter().map(|a| {
                    vec![
                        a.sign_in.clone(),
                        a.display_name.clone(),
                        a.role.clone(),
                        match a.quota {
                            _ if a.role == "guest" => "none".to_string(),
                            Some(quota) => format!("{} of {}", size(a.bytes), size(quota as i64)),
                            None => size(a.bytes),
                        },
                        a.groups.join(", "),
                        match &a.disabled {
                            _ if a.leaves.is_some() => {
                                format!("is deleted {}", time(a.leaves.as_deref().unwrap_or_default()))
                            }
                            Some(_) if a.why_disabled == "waiting" => "waits to be approved".to_string(),
                            Some(since) => format!("disabled {}", time(since)),
                            None if a.invited => "no password chosen yet".to_string(),
                            None => String::new(),
                        },
                    ]
                }));
                table(&rows, &[3]);
            }
            Act::Show { name } => show_page(output, &client.account(&name).await?)?,
            Act::SignOut { name, computer, browser, invitation } => {
                if let Some(id) = computer {
                    proved(&client, async || client.end_device_of(&name, id).await).await?;
                    output.say(format!("Computer {id} of {name} is disconnected."));
                }
                if let Some(id) = browser {
                    proved(&client, async || client.end_session_of(&name, &id).await).await?;
                    output.say(format!("{name} is signed out in browser {id}."));
                }
                if invitation {
                    proved(&client, async || client.end_invitation(&name).await).await?;
                    output.say(format!("The invitation of {name} counts no more."));
                }
                let now = client.account(&name).await?;
                output.object(&now)?;
            }
            Act::Set {
                name,
                display_name,
                mail,
                role,
                quota,
                group,
                forget_factors,
                keep,
                password,
                password_stdin,
                enable,
            } => {
                if forget_factors {
                    proved(&client, async || client.end_factors(&name).await).await?;
                    output.say(format!("{name} signs in by password alone now."));
                }
                if keep {
                    proved(&client, async || client.undo_removal(&name).await).await?;
                    output.say(format!("{name} stays, disabled."));
                }
                let password = if password { Some(new_password(password_stdin)?) } else { None };
                let disabled = enable.then_some(false);
                // An empty name stands for none.
                let groups =
                    (!group.is_empty()).then(|| group.into_iter().filter(|g| !g.trim().is_empty()).collect());
                let change = api::AccountChange {
                    display_name,
                    mail,
                    role,
                    password,
                    disabled,
                    quota,
                    closed: None,
                    groups,
                };
                let done = proved(&client, async || client.change_account(&name, &change).await).await?;
                show(output, &done)?;
            }
            Act::Import { list, preview, change, invite, column, yes } => {
                import(output, &client, &list, preview, change, invite, &column, yes).await?;
            }
            Act::End { name, delete: true, days, files_to, yes } => {
                delete(output, &client, &name, days, files_to, yes).await?;
            }
            Act::End { name, yes, .. } => {
                let account = client.account(&name).await?.account;
                let what = format!(
                    "{} ({}) would be signed out everywhere; its {} stay",
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
        if made.mailed {
            output.say("It goes out by mail as well.");
        }
        output.say(format!("Pass this on to {name}. It counts once, until {}:", time(&made.expires)));
        println!("{}", made.address);
    }
    Ok(())
}

/// Where it is, as the caller writes it. Their own home is not that of the account.
fn place_of(reached: &api::Reached) -> String {
    match &reached.path {
        Some(path) if path.starts_with("home:") => format!("{path} (your home)"),
        Some(path) => path.clone(),
        None => reached.name.clone(),
    }
}

/// All that is known of one account.
fn show_page(output: Output, page: &api::AccountPage) -> Done {
    if output.object(page)? {
        return Ok(());
    }
    show(output, &page.account)?;
    let part = |title: &str, rows: Vec<Vec<String>>| {
        if !rows.is_empty() {
            println!("\n{title}");
            table(&rows, &[]);
        }
    };
    part(
        "may reach",
        page.reaches.iter().map(|r| vec![place_of(r), r.level.clone(), r.why.join(" ")]).collect(),
    );
    part(
        "computers (end one: yattic account sign-out NAME --computer ID)",
        page.devices
            .iter()
            .map(|d| {
                let used = match (&d.used, &d.used_from) {
                    (Some(at), Some(from)) => format!("last used {} from {from}", time(at)),
                    (Some(at), None) => format!("last used {}", time(at)),
                    _ => "never used".to_string(),
                };
                vec![d.id.to_string(), d.name.clone(), used]
            })
            .collect(),
    );
    part(
        "signed in (end one: yattic account sign-out NAME --browser ID)",
        page.sessions
            .iter()
            .map(|s| {
                vec![s.id.clone(), s.agent.clone(), format!("since {} from {}", time(&s.opened), s.from)]
            })
            .collect(),
    );
    part(
        "second factors",
        page.factors
            .iter()
            .map(|f| {
                let used = f
                    .used
                    .as_deref()
                    .map_or("never used".to_string(), |at| format!("last used {}", time(at)));
                vec![f.kind.clone(), f.name.clone(), used]
            })
            .collect(),
    );
    if let Some(open) = &page.invitation {
        let by = open.by.as_deref().map(|by| format!(" by {by}")).unwrap_or_default();
        println!("\nAn invitation of {}{by} counts until {}.", time(&open.made), time(&open.expires));
    }
    part(
        "unfinished uploads",
        page.uploads
            .iter()
            .map(|u| vec![u.name.clone(), format!("{} of {}", size(u.received as i64), size(u.size as i64))])
            .collect(),
    );
    part(
        "did last",
        page.record
            .iter()
            .take(10)
            .map(|l| vec![time(&l.at), l.action.clone(), l.what.clone(), l.device.clone(), l.from.clone()])
            .collect(),
    );
    if page.given > 0 {
        let what = match page.given {
            1 => "one link, intake or share".to_string(),
            n => format!("{n} links, intakes and shares"),
        };
        println!("\nGave out {what}: yattic given-out --by {}", page.account.sign_in);
    }
    Ok(())
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
    if let Some(quota) = account.quota {
        let by = if account.own_quota { "its own" } else { "by its groups" };
        rows.push(vec!["quota".to_string(), format!("{} ({by})", size(quota as i64))]);
    }
    rows.push(vec![
        "second factor".to_string(),
        if account.second_factor { "set up" } else { "none" }.to_string(),
    ]);
    if !account.shut.is_empty() {
        rows.push(vec!["closed".to_string(), account.shut.join(", ")]);
    }
    if let Some(seen) = &account.seen {
        rows.push(vec!["last in".to_string(), time(seen)]);
    }
    if let Some(by) = &account.invited_by {
        rows.push(vec!["invited by".to_string(), by.clone()]);
    }
    if let Some(at) = &account.leaves {
        rows.push(vec!["is deleted".to_string(), time(at)]);
    }
    if let Some(since) = &account.disabled {
        rows.push(vec!["disabled".to_string(), time(since)]);
    }
    table(&rows, &[]);
    Ok(())
}

#[allow(clippy::too_many_arguments)]
async fn import(
    output: Output,
    client: &Client,
    list: &str,
    preview: bool,
    change: bool,
    invite: bool,
    column: &[String],
    yes: bool,
) -> Done {
    let bytes = match list {
        "-" => {
            let mut bytes = Vec::new();
            std::io::Read::read_to_end(&mut std::io::stdin().lock(), &mut bytes)?;
            bytes
        }
        path => std::fs::read(path)
            .map_err(|e| Failure::failed(format!("{path}: {e}"), "Name a file that can be read."))?,
    };
    let mut columns = std::collections::BTreeMap::new();
    for word in column {
        let (heading, column) = word.rsplit_once('=').ok_or_else(|| {
            Failure::usage(format!("\"{word}\" names no column"), "Write it like Login=sign_in.")
        })?;
        columns.insert(heading.to_string(), column.to_string());
    }
    let columns = if columns.is_empty() {
        String::new()
    } else {
        serde_json::to_string(&columns).map_err(|e| Failure::failed(e.to_string(), ""))?
    };
    let query = api::ListPeopleQuery { preview: true, change, invite, columns };
    let told = client.list_people(bytes.clone(), &query).await?;
    let sum = |fate: &str| told.sums.get(fate).copied().unwrap_or(0);
    let todo = sum("made") + sum("changed");
    if preview || todo == 0 {
        show_list(output, &told)?;
        return Ok(());
    }
    if !yes && !output.json {
        show_list(output, &told)?;
    }
    let what = format!("{} would be made, {} changed; {} wrong", sum("made"), sum("changed"), sum("wrong"));
    sure(yes, &what, "Do it?")?;
    let query = api::ListPeopleQuery { preview: false, ..query };
    let done = proved(client, async || client.list_people(bytes.clone(), &query).await).await?;
    show_list(output, &done)?;
    if done.invited > 0 {
        output.say(format!("{} written.", count(done.invited, "invitation")));
    }
    match done.sums.get("wrong").copied().unwrap_or(0) {
        0 => Ok(()),
        n => Err(Failure::partly(format!("{} wrong; the others are done", count(n, "row")))),
    }
}

fn show_list(output: Output, told: &api::ListedPeople) -> Done {
    if output.object(told)? {
        return Ok(());
    }
    let left: Vec<_> =
        told.columns.iter().filter(|c| c.column.is_none()).map(|c| c.heading.as_str()).collect();
    if !left.is_empty() {
        output.say(format!("Left out: {}.", left.join(", ")));
    }
    let mut rows = vec![
        ["line", "account", "name", if told.done { "is" } else { "would be" }, ""].map(String::from).to_vec(),
    ];
    rows.extend(told.rows.iter().map(|r| {
        vec![
            r.line.to_string(),
            r.sign_in.clone(),
            r.display_name.clone(),
            r.fate.clone(),
            r.details.join("; "),
        ]
    }));
    table(&rows, &[0]);
    Ok(())
}

async fn delete(
    output: Output,
    client: &Client,
    name: &str,
    days: u32,
    heir: Option<String>,
    yes: bool,
) -> Done {
    let goes = client.removal(name).await?;
    let mut lost = vec![format!("{} ({})", count(goes.files, "file"), size(goes.bytes))];
    for (n, one, many) in [
        (goes.given, "grant it gave", "grants it gave"),
        (goes.received, "grant it was given", "grants it was given"),
        (goes.computers, "connected computer", "connected computers"),
        (goes.uploads, "unfinished upload", "unfinished uploads"),
    ] {
        if n > 0 {
            lost.push(format!("{n} {}", if n == 1 { one } else { many }));
        }
    }
    let files = match &heir {
        Some(heir) => format!("its files go to {heir}"),
        None => "its files are out of reach".to_string(),
    };
    let what = format!("With {name} would go {}. In {days} days {files}", lost.join(", "));
    sure(yes, &what, "Have it deleted then?")?;
    let removal = api::Removal { name: name.into(), days: Some(days), heir };
    let done = proved(client, async || client.decide_removal(name, &removal).await).await?;
    if !output.object(&done)? {
        output.say(format!(
            "{name} is deleted {}. Until then: yattic account set {name} --keep",
            done.leaves.as_deref().map(time).unwrap_or_default()
        ));
    }
    Ok(())
}
