//! The desktop's keyring, by the freedesktop Secret Service.
//!
//! Where there is one, tokens are kept in it. If it is locked, that is said: a token never goes to a file because of it.

use crate::output::Failure;
use secret_service::{EncryptionType, Error, SecretService};
use std::collections::HashMap;

/// Works on it in a thread of its own, whatever runs around it.
fn on_it<T: Send>(
    does: impl AsyncFnOnce(SecretService<'static>) -> Result<T, Error> + Send,
) -> Result<T, Error> {
    let work = || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let runtime = runtime.map_err(|_| Error::Unavailable)?;
        runtime.block_on(async { does(SecretService::connect(EncryptionType::Dh).await?).await })
    };
    std::thread::scope(|threads| threads.spawn(work).join().unwrap_or(Err(Error::Unavailable)))
}

fn names(address: &str) -> HashMap<&str, &str> {
    HashMap::from([("application", "yattic"), ("service", address)])
}

fn locked() -> Failure {
    Failure::failed(
        "the desktop's keyring is locked, and this computer's token is in it",
        "Unlock it, or sign in to your desktop; then it goes on. Or connect anew with --token-in-file.",
    )
    .coded("keyring_locked")
}

fn failed(error: Error) -> Failure {
    match error {
        Error::Locked | Error::Prompt => locked(),
        other => Failure::failed(
            format!("the desktop's keyring does not answer: {other}"),
            "See that your desktop's session runs; or connect anew with --token-in-file.",
        )
        .coded("keyring_away"),
    }
}

/// Whether there is one.
pub fn is_there() -> bool {
    let named = std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some()
        || std::env::var_os("XDG_RUNTIME_DIR")
            .is_some_and(|dir| std::path::Path::new(&dir).join("bus").exists());
    named && on_it(async |service| service.get_default_collection().await.map(drop)).is_ok()
}

/// Keeps a token in it. It may ask the person to unlock it.
pub fn keep(address: &str, sign_in: &str, token: &str) -> Result<(), Failure> {
    let label = format!("Yellow Attic: {sign_in} at {address}");
    let kept = on_it(async |service| {
        let collection = service.get_default_collection().await?;
        if collection.is_locked().await? {
            collection.unlock().await?;
        }
        collection.create_item(&label, names(address), token.as_bytes(), true, "text/plain").await?;
        Ok(())
    });
    kept.map_err(failed)
}

/// The token that it has. `asks`: it may ask the person to unlock it.
pub fn token(address: &str, asks: bool) -> Result<String, Failure> {
    let found = on_it(async |service| {
        let found = service.search_items(names(address)).await?;
        let item = match (found.unlocked.first(), found.locked.first()) {
            (Some(item), _) => item,
            (None, Some(item)) if asks => {
                item.unlock().await?;
                item
            }
            (None, Some(_)) => return Err(Error::Locked),
            (None, None) => return Err(Error::NoResult),
        };
        item.get_secret().await
    });
    match found {
        Ok(secret) => String::from_utf8(secret).map_err(|e| Failure::failed(e.to_string(), "")),
        Err(Error::NoResult) => Err(Failure::failed(
            format!("the desktop's keyring has no token for {address} any more"),
            format!("Connect anew: yattic connect {address} --anew"),
        )),
        Err(error) => Err(failed(error)),
    }
}

/// Takes a token out of it.
pub fn forget(address: &str) -> Result<(), Failure> {
    let gone = on_it(async |service| {
        let found = service.search_items(names(address)).await?;
        for item in found.unlocked.iter().chain(&found.locked) {
            if item.is_locked().await? {
                item.unlock().await?;
            }
            item.delete().await?;
        }
        Ok(())
    });
    gone.map_err(failed)
}
