//! Invitations: made, and sent by mail.

use crate::http::problem::Refusal;
use crate::mail::compose::Letter;
use crate::state::State;
use crate::state::secrets::{hash_secret, new_secret};
use yellow_attic_store::Actor;
use yellow_attic_store::people::accounts::Account;

/// How long an invitation counts.
pub const INVITED_MS: i64 = 7 * 86_400_000;

/// Makes an invitation: its address, and until when it counts.
pub async fn invitation(state: &State, actor: &Actor, account: &Account) -> Result<(String, i64), Refusal> {
    let secret = new_secret()?;
    let expires = state.engine.now_ms() + INVITED_MS;
    state.engine.sign_ins().invite(actor, account, hash_secret(&secret), expires).await?;
    // After the #, so that it comes into no log on the way.
    Ok((format!("{}/welcome#{secret}", state.base()), expires))
}

/// Sends an invitation, if there is a mail server and an address to send it to.
pub async fn mail_invitation(
    state: &State,
    actor: &Actor,
    account: &Account,
    address: &str,
    expires: i64,
) -> Result<bool, Refusal> {
    let Some(to) = &account.mail else { return Ok(false) };
    let organisation = &state.config.organisation;
    let (subject, what) = match account.password.is_empty() {
        true => (
            "your account",
            format!("there is an account for you at {organisation}: \"{}\".", account.sign_in),
        ),
        false => (
            "a new password",
            format!(
                "a new password can be chosen for your account \"{}\" at {organisation}.",
                account.sign_in
            ),
        ),
    };
    let day = crate::http::times::today(expires);
    let says = Letter {
        kind: if account.password.is_empty() { "invitation" } else { "password reset" },
        to,
        subject: subject.into(),
        paragraphs: vec![
            format!("Hello {},", account.display_name),
            what,
            format!("Choose a password at the address below. It counts once, until {day}."),
        ],
        open: Some(("Choose a password", address.to_string())),
    };
    Ok(crate::state::letters::write(state, actor, says).await?)
}
