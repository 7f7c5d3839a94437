//! The way to the mail server.

use crate::config::{Config, MailConfig, MailTls};
use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use std::time::Duration;
use tokio::sync::Notify;

/// A mail server that says nothing for so long is away.
pub const PATIENCE: Duration = Duration::from_secs(20);

pub type Transport = AsyncSmtpTransport<Tokio1Executor>;

/// The way to the mail server.
pub struct Mailer {
    pub config: Option<MailConfig>,
    pub wake: Notify,
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

    pub fn transport(config: &MailConfig) -> Result<Transport, String> {
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

impl Mailer {
    /// Something in the queue is to be looked at now.
    pub fn hurry(&self) {
        self.wake.notify_one();
    }
}
