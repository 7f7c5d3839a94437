//! What the desktop shows of the pairs: an icon in its tray, and a notification where somebody is needed. Where there is no
//! desktop, nothing.

mod notice;
mod tray;

use crate::commands::sync::open::opener;
use ksni::TrayMethods;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use yellow_attic_sync::computer::keeper::Keeper;
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;

/// Between two looks.
const LOOK: Duration = Duration::from_secs(2);
/// A desktop that is not there is looked for again after so many looks.
const AGAIN: u32 = 30;

/// What opens something has failed by then, if it fails.
const OPENING: Duration = Duration::from_secs(3);

/// What somebody chose in the tray's menu.
pub(super) enum Asks {
    /// This computer's page.
    Page,
    /// A file or folder of this computer.
    Local(String),
    /// Nothing is carried, or it goes on.
    Pause(bool),
}

/// Whether there may be a desktop: its bus has an address.
fn may_be() -> bool {
    let bus = || std::env::var_os("XDG_RUNTIME_DIR").map(|dir| std::path::Path::new(&dir).join("bus"));
    std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some() || bus().is_some_and(|bus| bus.exists())
}

/// Lets the desktop open a file or an address. Whether it found something to do that with.
pub fn open(what: &str) -> bool {
    // Without a screen it would look for something to do it with in this terminal.
    if ["DISPLAY", "WAYLAND_DISPLAY"].iter().all(|name| std::env::var_os(name).is_none()) {
        return false;
    }
    let quiet = || Stdio::null();
    let begun = Command::new("xdg-open").arg(what).stdin(quiet()).stdout(quiet()).stderr(quiet()).spawn();
    let Ok(mut opening) = begun else { return false };
    let since = Instant::now();
    loop {
        match opening.try_wait() {
            Ok(Some(status)) => return status.success(),
            // It may go on for as long as the browser does.
            Ok(None) if since.elapsed() > OPENING => return true,
            Ok(None) => std::thread::sleep(Duration::from_millis(50)),
            Err(_) => return false,
        }
    }
}

/// Shows how the pairs are, until it is dropped.
pub async fn show(keeper: Arc<Keeper>) {
    if !may_be() {
        return;
    }
    let (ask, mut asked) = mpsc::unbounded_channel();
    let (mut icon, mut looks): (Option<ksni::Handle<tray::Icon>>, u32) = (None, 0);
    let mut notices = notice::Notices::default();
    loop {
        let pairs = keeper.pairs();
        let told: Vec<(About, Status)> = pairs
            .into_iter()
            .filter_map(|about| keeper.computer.status(&about).ok().map(|status| (about, status)))
            .collect();
        notices.tell(&told).await;
        let now = tray::Seen::of(&told);
        match &icon {
            Some(shown) if !shown.is_closed() => {
                shown
                    .update(|icon| {
                        if icon.seen != now {
                            icon.seen = now;
                        }
                    })
                    .await;
            }
            _ if looks.is_multiple_of(AGAIN) => {
                icon = tray::Icon { seen: now, ask: ask.clone() }.disable_dbus_name(true).spawn().await.ok();
            }
            _ => {}
        }
        looks = looks.wrapping_add(1);
        tokio::select! {
            Some(asks) = asked.recv() => answer(&keeper, asks).await,
            () = tokio::time::sleep(LOOK) => {}
        }
    }
}

async fn answer(keeper: &Arc<Keeper>, asks: Asks) {
    let opens = |what: String| tokio::task::spawn_blocking(move || open(&what));
    match asks {
        Asks::Page => {
            if let Ok(file) = opener(&keeper.computer.folder).await {
                let _ = opens(file.display().to_string()).await;
            }
        }
        Asks::Local(path) => drop(opens(path).await),
        Asks::Pause(paused) => {
            for about in keeper.pairs() {
                let _ = keeper.computer.keep(&About { paused, ..about }).await;
            }
            let _ = keeper.look().await;
        }
    }
}
