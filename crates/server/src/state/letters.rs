//! Letters in the organisation's name.

use crate::mail::compose::{Letter, compose};
use crate::state::State;
use yellow_attic_core::people::Notice;
use yellow_attic_store::people::accounts::Account;
use yellow_attic_store::people::mail_queue::NewQueuedLetter;
use yellow_attic_store::{Actor, StoreError};

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
    state.engine.people().write_letter(actor, letter).await?;
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
