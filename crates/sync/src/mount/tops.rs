//! What stands at the top of a mounted folder: every shelf that one may enter, and beneath `given` what was given. Each is a
//! pair of its own.

use super::inner::Top;
use crate::computer::{Computer, Done, NewPair, Refused};
use crate::pairs::at_hand::{what_is, write_whole};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use yellow_attic_client::{Client, api};
use yellow_attic_core::merge::filter::Filter;
use yellow_attic_core::merge::{Object, Way};

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
    writes: bool,
}

/// What is to stand at the top.
struct Wanted {
    place: PathBuf,
    remote: String,
    node: i64,
    writes: bool,
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
                let top = Top { pair: kept.pair, remote: kept.remote, writes: kept.writes };
                tops.insert(what_is(folder)?.0, top);
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
                if known.writes != want.writes || known.remote != want.remote {
                    (known.writes, known.remote) = (want.writes, want.remote);
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
                writes: want.writes,
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

fn wanted(shelves: &api::Shelves) -> Vec<Wanted> {
    let writes = |level: &str| level != "view";
    let shelf = |shelf: &api::Shelf| Wanted {
        place: PathBuf::from(&shelf.name),
        remote: format!("{}:/", shelf.name),
        node: shelf.root,
        writes: writes(&shelf.level),
    };
    let given = shelves.given.iter().filter(|given| given.node.kind == api::Kind::Folder).map(|given| {
        let name = given.path.strip_prefix("given:/").unwrap_or(&given.node.name);
        Wanted {
            place: Path::new(GIVEN).join(name),
            remote: given.path.clone(),
            node: given.node.id,
            writes: writes(&given.level),
        }
    });
    shelves.shelves.iter().map(shelf).chain(given).collect()
}
