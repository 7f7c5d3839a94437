//! What stands at the top of a mounted folder: every shelf that one may enter, and beneath `given` what was given. Each is a
//! pair of its own.

use super::inner::Top;
use crate::computer::{Computer, Done, NewPair, Refused};
use crate::pairs::at_hand::{what_is, write_whole};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_client::{Client, api};
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_core::merge::{Object, Way};
use yellow_attic_core::rights::Level;

/// Where what was given stands.
const GIVEN: &str = "given";

/// One of them, as it is kept.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Kept {
    /// Its place below the body.
    place: PathBuf,
    pair: String,
    remote: String,
    node: i64,
    /// What may be done on it.
    #[serde(default)]
    level: String,
    /// And where beneath that is otherwise.
    #[serde(default)]
    beneath: Vec<api::LevelAt>,
}

/// What is to stand at the top.
struct Wanted {
    place: PathBuf,
    remote: String,
    node: i64,
    level: String,
}

/// All of them, where they are kept.
pub(super) struct Tops {
    body: PathBuf,
    file: PathBuf,
    service: String,
}

impl Tops {
    pub(super) fn new(body: PathBuf, file: PathBuf, service: String) -> Tops {
        Tops { body, file, service }
    }

    fn kept(&self) -> Done<Vec<Kept>> {
        match fs::read(&self.file) {
            Ok(text) => serde_json::from_slice(&text)
                .map_err(|e| Refused::new("state_unusable", format!("{}: {e}", self.file.display()), "")),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(e) => Err(e.into()),
        }
    }

    /// Those that are known, by their objects.
    pub(super) fn known(&self) -> Done<HashMap<Object, Top>> {
        let mut tops = HashMap::new();
        for kept in self.kept()? {
            if let Ok(folder) = File::open(self.body.join(&kept.place)) {
                tops.insert(what_is(folder)?.0, kept.top());
            }
        }
        Ok(tops)
    }

    /// Asks the service what there is, and makes what is new. What may be seen no more stays, with what lies in it.
    pub(super) async fn look(&self, client: &Client, computer: &Computer) -> Done<bool> {
        let shelves = client.shelves().await?;
        let mut kept = self.kept()?;
        let mut changed = false;
        for want in wanted(&shelves) {
            if let Some(known) = kept.iter_mut().find(|kept| kept.node == want.node) {
                let beneath = beneath(client, want.node, &known.beneath).await;
                if (&known.level, &known.remote, &known.beneath) != (&want.level, &want.remote, &beneath) {
                    (known.level, known.remote, known.beneath) = (want.level, want.remote, beneath);
                    changed = true;
                }
                continue;
            }
            let place = self.free(&want.place, &kept);
            let local = self.body.join(&place);
            let new = NewPair {
                service: self.service.clone(),
                local,
                remote: want.remote.clone(),
                way: Way::Both,
                filter: Filter::default(),
            };
            let about = computer.add(new).await?;
            kept.push(Kept {
                place,
                pair: about.id,
                remote: want.remote,
                node: want.node,
                level: want.level,
                beneath: beneath(client, want.node, &[]).await,
            });
            changed = true;
        }
        if changed {
            let text = serde_json::to_vec(&kept).map_err(std::io::Error::other)?;
            write_whole(&self.file, &text)?;
        }
        Ok(changed)
    }

    /// A place that no other has.
    fn free(&self, place: &Path, kept: &[Kept]) -> PathBuf {
        let taken =
            |place: &Path| kept.iter().any(|kept| kept.place == place) || self.body.join(place).exists();
        let name = place.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let mut free = place.to_path_buf();
        let mut number = 2;
        while taken(&free) {
            free = place.with_file_name(format!("{name} ({number})"));
            number += 1;
        }
        free
    }
}

impl Kept {
    fn top(self) -> Top {
        let level = |word: &str| Level::from_word(word).unwrap_or(Level::View);
        let way = |path: &str| path.split('/').map(|name| name.as_bytes().to_vec()).collect();
        let beneath = self.beneath.iter().map(|at| (way(&at.path), level(&at.level))).collect();
        Top { pair: self.pair, remote: self.remote, level: level(&self.level), beneath: Arc::new(beneath) }
    }
}

/// Where beneath a folder other things may be done than in it; as it was known, if that cannot be told now.
async fn beneath(client: &Client, node: i64, known: &[api::LevelAt]) -> Vec<api::LevelAt> {
    client.levels(node).await.map_or_else(|_| known.to_vec(), |levels| levels.beneath)
}

fn wanted(shelves: &api::Shelves) -> Vec<Wanted> {
    let shelf = |shelf: &api::Shelf| Wanted {
        place: PathBuf::from(&shelf.name),
        remote: format!("{}:/", shelf.name),
        node: shelf.root,
        level: shelf.level.clone(),
    };
    let given = shelves.given.iter().filter(|given| given.node.kind == api::Kind::Folder).map(|given| {
        let name = given.path.strip_prefix("given:/").unwrap_or(&given.node.name);
        Wanted {
            place: Path::new(GIVEN).join(name),
            remote: given.path.clone(),
            node: given.node.id,
            level: given.level.clone(),
        }
    });
    shelves.shelves.iter().map(shelf).chain(given).collect()
}
