//! A line that breaks, and refuses to come back for a while.

use std::time::{Duration, Instant};
use yellow_attic_client::Error;

/// A line that stays broken is given up after this.
pub const PATIENCE: Duration = Duration::from_secs(120);
/// It is tried again after this.
pub const AGAIN: Duration = Duration::from_millis(500);

/// Whether something that failed may work when it is tried again.
pub fn may_pass(error: &Error) -> bool {
    match error {
        Error::Line(_) => true,
        Error::Refused(p) => ["busy", "stopping"].contains(&p.code.as_str()),
        _ => false,
    }
}

/// Asks until there is an answer, or the line has been broken for too long. Only for what does no harm when it is done
/// twice: an answer that got lost is asked for again.
pub async fn patiently<T, F>(mut ask: impl FnMut() -> F) -> Result<T, Error>
where
    F: Future<Output = Result<T, Error>>,
{
    let began = Instant::now();
    loop {
        match ask().await {
            Err(e) if may_pass(&e) && began.elapsed() < PATIENCE => tokio::time::sleep(AGAIN).await,
            other => return other,
        }
    }
}
