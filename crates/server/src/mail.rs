//! Mail: what is written, and how it gets to the mail server.

use crate::config::{Config, MailConfig, MailTls};
use crate::state::State;
use actix_web::web;
use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use std::time::Duration;
use tokio::sync::Notify;
use yellow_attic_core::people::Notice;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::mail_queue::{NewQueuedLetter, QueuedLetter};
use yellow_attic_store::{Actor, StoreError};

/// How long after each failed try the next one comes: three days in all.
const BACK_OFF_S: [i64; 8] = [60, 300, 1_800, 7_200, 21_600, 43_200, 86_400, 86_400];
/// A mail server that says nothing for so long is away.
const PATIENCE: Duration = Duration::from_secs(20);

type Transport = AsyncSmtpTransport<Tokio1Executor>;

/// The way to the mail server.
pub struct Mailer {
    config: Option<MailConfig>,
    wake: Notify,
}

/// What came of a try.
#[derive(Debug)]
pub struct Tried {
    /// Whether the server took the letter.
    pub taken: bool,
    /// What it said, or why it could not be asked.
    pub said: String,
    /// What to do about it.
    pub remedy: &'static str,
    /// Whether another try could help.
    pub again: bool,
}

impl Mailer {
    /// The way to the configured server.
    pub fn new(config: &Config) -> Mailer {
        Mailer { config: config.mail.clone(), wake: Notify::new() }
    }

    /// Whether there is a mail server.
    pub fn is_set(&self) -> bool {
        self.config.is_some()
    }

    /// The server, and whom mail comes from.
    pub fn shown(&self) -> Option<(String, String)> {
        let c = self.config.as_ref()?;
        let tls = match c.tls {
            MailTls::StartTls => "STARTTLS",
            MailTls::Tls => "TLS",
            MailTls::None => "not encrypted",
        };
        Some((format!("{}:{} ({tls})", c.host, c.port), c.from.clone()))
    }

    fn transport(config: &MailConfig) -> Result<Transport, String> {
        let parameters = || TlsParameters::new(config.host.clone()).map_err(|e| e.to_string());
        let tls = match config.tls {
            MailTls::StartTls => Tls::Required(parameters()?),
            MailTls::Tls => Tls::Wrapper(parameters()?),
            MailTls::None => Tls::None,
        };
        let mut builder =
            Transport::builder_dangerous(&config.host).port(config.port).tls(tls).timeout(Some(PATIENCE));
        if let Some((user, password)) = &config.sign_in {
            builder = builder.credentials(Credentials::new(user.clone(), password.clone()));
        }
        Ok(builder.build())
    }

    /// Sends a letter now.
    pub async fn send(&self, to: &str, subject: &str, plain: &str, rich: &str) -> Tried {
        let failed = |said: String, remedy, again| Tried { taken: false, said, remedy, again };
        let Some(config) = &self.config else {
            return failed(
                "No mail server is set.".into(),
                "Set mail_server and mail_from in the configuration, then start the service again.",
                true,
            );
        };
        let message = config.from.parse::<Mailbox>().and_then(|from| Ok((from, to.parse::<Mailbox>()?)));
        let message = message.map_err(|e| e.to_string()).and_then(|(from, to)| {
            Message::builder()
                .from(from)
                .to(to)
                .subject(subject)
                .multipart(MultiPart::alternative_plain_html(plain.to_string(), rich.to_string()))
                .map_err(|e| e.to_string())
        });
        let message = match message {
            Ok(message) => message,
            Err(said) => return failed(said, "Correct the address.", false),
        };
        let transport = match Self::transport(config) {
            Ok(transport) => transport,
            Err(said) => return failed(said, "Correct mail_server.", true),
        };
        match transport.send(message).await {
            Ok(answer) => {
                let said = answer.message().collect::<Vec<_>>().join(" ");
                Tried { taken: true, said: format!("{} {said}", answer.code()), remedy: "", again: false }
            }
            Err(e) => {
                let mut said = e.to_string();
                let mut source = std::error::Error::source(&e);
                while let Some(inner) = source {
                    if !said.contains(&inner.to_string()) {
                        said = format!("{said}: {inner}");
                    }
                    source = inner.source();
                }
                let remedy = if e.is_permanent() {
                    "The server refuses it for good: see what it says, and correct the sender, the recipient or the sign-in."
                } else if e.is_tls() {
                    "See that mail_tls and the port go together, and that the server's certificate is valid."
                } else if e.is_timeout() || e.status().is_none() {
                    "See that mail_server names the right host and port, and that this machine may reach it."
                } else {
                    "The server asks to try later."
                };
                failed(said, remedy, !e.is_permanent())
            }
        }
    }
}

/// What a letter says.
pub struct Letter<'a> {
    /// What it is about, in a word.
    pub kind: &'static str,
    /// To which address.
    pub to: &'a str,
    /// Its subject.
    pub subject: String,
    /// Its paragraphs.
    pub paragraphs: Vec<String>,
    /// Something to open: what it is, and its address.
    pub open: Option<(&'a str, String)>,
}

/// Puts a letter into the queue, in the organisation's name. Without a mail server nothing is
/// written. Returns whether it was.
pub async fn write(state: &State, actor: &Actor, says: Letter<'_>) -> Result<bool, StoreError> {
    if !state.post.is_set() {
        return Ok(false);
    }
    let (plain, rich) = compose(&state.config.organisation, &says);
    let letter = NewQueuedLetter {
        kind: says.kind,
        recipient: says.to.to_string(),
        subject: format!("{}: {}", state.config.organisation, says.subject),
        plain,
        rich,
    };
    state.engine.write_letter(actor, letter).await?;
    state.post.wake.notify_one();
    Ok(true)
}

/// Tells somebody of something, in a letter, if they have a mail address and want such letters.
/// What was done is done: a letter that cannot be written is told in the log.
pub async fn tell(
    state: &State,
    actor: &Actor,
    account: &Account,
    notice: Option<Notice>,
    subject: String,
    said: String,
) {
    let Some(to) = account.mail.as_deref().filter(|_| account.disabled_at.is_none()) else { return };
    if notice.is_some_and(|n| account.muted.contains(&n)) {
        return;
    }
    let says = Letter {
        kind: notice.map_or("sign-in", Notice::word),
        to,
        subject,
        paragraphs: vec![format!("Hello {},", account.display_name), said],
        open: Some(("Open it", state.base())),
    };
    if let Err(error) = write(state, actor, says).await {
        tracing::warn!(%error, "a letter could not be written");
    }
}

/// A letter as plain text and as HTML, without pictures or anything else that is fetched.
pub fn compose(organisation: &str, says: &Letter<'_>) -> (String, String) {
    let mut plain = says.paragraphs.join("\n\n");
    let mut rich: String = says
        .paragraphs
        .iter()
        .map(|p| format!("<p style=\"margin:0 0 16px\">{}</p>", escaped(p).replace('\n', "<br>")))
        .collect();
    if let Some((label, address)) = &says.open {
        plain.push_str(&format!("\n\n{label}:\n{address}"));
        let address = escaped(address);
        rich.push_str(&format!(
            "<p style=\"margin:24px 0\"><a href=\"{address}\" style=\"background:#F5B916;color:#201D18;padding:12px 18px;\
             border-radius:8px;text-decoration:none;font-weight:bold\">{}</a></p>\
             <p style=\"margin:0 0 16px;color:#6B6457;font-size:13px;word-break:break-all\">{address}</p>",
            escaped(label)
        ));
    }
    let foot = format!("This was sent by {organisation}. If it is not meant for you, do nothing.");
    plain.push_str(&format!("\n\n-- \n{foot}\n"));
    let rich = format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title></head>\
         <body style=\"margin:0;background:#FCFAF4;color:#201D18;font:16px/1.5 sans-serif\">\
         <div style=\"max-width:560px;margin:0 auto;padding:32px 20px\">\
         <p style=\"margin:0 0 24px;font-weight:bold\">{org}</p>{rich}\
         <p style=\"margin:32px 0 0;padding-top:16px;border-top:1px solid #E6DFD0;color:#6B6457;font-size:13px\">{foot}</p>\
         </div></body></html>",
        title = escaped(&says.subject),
        org = escaped(organisation),
        foot = escaped(&foot),
    );
    (plain, rich)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Takes letters from the queue to the server, for as long as the service runs.
pub async fn deliver(state: web::Data<State>) {
    if !state.post.is_set() {
        return;
    }
    loop {
        let next = match state.engine.due_letters().await {
            Ok((letters, next)) if letters.is_empty() => next,
            Ok((letters, _)) => {
                for letter in letters {
                    if let Err(error) = try_letter(&state, letter).await {
                        tracing::warn!(%error, "a letter's fate could not be written");
                        tokio::time::sleep(Duration::from_secs(5)).await;
                    }
                }
                continue;
            }
            Err(error) => {
                tracing::warn!(%error, "the queue of letters could not be read");
                None
            }
        };
        let wait = next.map_or(60_000, |at| (at - state.engine.now_ms()).clamp(10, 60_000));
        tokio::select! {
            () = state.post.wake.notified() => {}
            () = tokio::time::sleep(Duration::from_millis(wait as u64)) => {}
        }
    }
}

async fn try_letter(state: &State, letter: QueuedLetter) -> Result<(), StoreError> {
    let tried = state.post.send(&letter.recipient, &letter.subject, &letter.plain, &letter.rich).await;
    if tried.taken {
        tracing::info!(letter = letter.id, kind = letter.kind, "a letter was sent");
        return state.engine.letter_sent(letter.id, tried.said).await;
    }
    let wait = BACK_OFF_S.get(letter.tries as usize).filter(|_| tried.again);
    let again_at = wait.map(|s| state.engine.now_ms() + s * 1000);
    tracing::warn!(
        letter = letter.id,
        said = tried.said,
        again = again_at.is_some(),
        "a letter was not taken"
    );
    state.engine.letter_failed(letter.id, tried.said, again_at).await
}

impl Mailer {
    /// Something in the queue is to be looked at now.
    pub fn hurry(&self) {
        self.wake.notify_one();
    }
}
