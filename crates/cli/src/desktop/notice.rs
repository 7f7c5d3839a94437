//! Notifications where somebody is needed, by the freedesktop standard: each said once, until it is over.

use std::collections::{BTreeMap, HashMap};
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;
use zbus::zvariant::Value;

/// One thing that somebody is needed for.
type Matter = (String, &'static str);

/// What was said, and is not over.
#[derive(Default)]
pub struct Notices {
    line: Option<zbus::Connection>,
    /// With the number that the desktop gave it.
    said: BTreeMap<Matter, (String, u32)>,
}

/// What is to be said of a pair.
fn wanted(told: &[(About, Status)]) -> BTreeMap<Matter, (String, String)> {
    let mut wanted = BTreeMap::new();
    for (about, status) in told {
        let local = &status.local;
        if let Some(trouble) = status.trouble.as_ref().filter(|_| status.needs) {
            wanted.insert((about.id.clone(), "trouble"), (format!("{local} needs you"), trouble.clone()));
        }
        if let Some(copy) = status.copies.first() {
            let more = match status.copies.len() {
                1 => String::new(),
                n => format!(" and {} more", n - 1),
            };
            let says = format!("\"{copy}\"{more}: two changed it at once. Look at both, and choose.");
            wanted.insert((about.id.clone(), "copies"), (format!("Kept twice in {local}"), says));
        }
        if let Some(full) = status.left.iter().find(|left| left.why.contains("(quota_full)")) {
            let says = format!("\"{}\" waits, and what comes after it: the shelf holds no more.", full.path);
            wanted.insert((about.id.clone(), "full"), (format!("{} is full", status.remote), says));
        }
    }
    wanted
}

impl Notices {
    /// Says what is new, and takes back what is over.
    pub async fn tell(&mut self, told: &[(About, Status)]) {
        let wanted = wanted(told);
        let over: Vec<Matter> =
            self.said.keys().filter(|about| !wanted.contains_key(*about)).cloned().collect();
        let news: Vec<_> = wanted
            .into_iter()
            .filter(|(about, (head, _))| self.said.get(about).is_none_or(|(said, _)| said != head))
            .collect();
        if over.is_empty() && news.is_empty() {
            return;
        }
        if self.line.is_none() {
            self.line = zbus::Connection::session().await.ok();
        }
        let Some(line) = self.line.clone() else { return };
        for about in over {
            if let Some((_, number)) = self.said.remove(&about) {
                let _ = call::<_, ()>(&line, "CloseNotification", &(number)).await;
            }
        }
        for (about, (head, says)) in news {
            let hints: HashMap<&str, Value<'_>> = HashMap::from([("urgency", Value::U8(1))]);
            let actions: [&str; 0] = [];
            // Desktops may take what is in it for markup.
            let says = says.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            let replaces = self.said.get(&about).map_or(0, |(_, number)| *number);
            let body =
                ("Yellow Attic", replaces, "", head.as_str(), says.as_str(), &actions[..], hints, -1i32);
            match call::<_, u32>(&line, "Notify", &body).await {
                Ok(number) => drop(self.said.insert(about, (head, number))),
                // Nobody shows notifications here; it is tried again with the next news.
                Err(_) => self.line = None,
            }
        }
    }
}

async fn call<B, T>(line: &zbus::Connection, method: &str, body: &B) -> zbus::Result<T>
where
    B: serde::Serialize + zbus::zvariant::DynamicType,
    T: serde::de::DeserializeOwned + zbus::zvariant::Type,
{
    let (name, path) = ("org.freedesktop.Notifications", "/org/freedesktop/Notifications");
    let answer = line.call_method(Some(name), path, Some(name), method, body).await?;
    answer.body().deserialize()
}
