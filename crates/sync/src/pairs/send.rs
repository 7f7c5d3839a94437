//! Sends the bytes of one file: a small one in one request, a large one in parts that outlast a broken line, and of one that the
//! service has in an older state only what differs.

use super::act::{Came, Done, Hands, Line, Task, on_disk, there};
use super::ground::{Ground, NotDone};
use crate::delta::{Meter, WORTH, body, cut_file, is_worth, listed};
use crate::patience::may_pass;
use bytes::Bytes;
use std::fs::File;
use std::io::Read;
use std::sync::Arc;
use yellow_attic_client::{Body, Client, NewUpload, When, api};
use yellow_attic_core::conditions::etag;
use yellow_attic_core::delta::{Piece, new_bytes, plan};
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::{Hash, Object, Stat};
use yellow_attic_core::mounted::stub::Stub;

/// Files from this size on are sent in parts, so that a broken line costs nothing.
pub(super) const LARGE: u64 = 8 << 20;
/// More that is new is sent in parts: a delta that is broken off is begun anew.
const MOST_NEW: u64 = 256 << 20;

impl Hands {
    pub(super) async fn send(&self, task: &Task, sends: Sends, bytes: Hash, stat: Stat) -> Done {
        let otherwise = || Came::from(Outcome::OtherwiseHere);
        let (way, seen) =
            (task.way.clone().ok_or_else(otherwise)?, (task.object.ok_or_else(otherwise)?, stat));
        let modified = (self.show_time)(stat.modified.div_euclid(1_000_000));
        let client = self.stating(task, Some(sends.thing.clone()), sends.seen.clone(), Some(stat.executable));
        let ground = self.ground.clone();
        if self.shared.at_hand.is_some() {
            let (ground, way) = (ground.clone(), way.clone());
            let stands = on_disk(move || ground.stands_for(&way, seen)).await?;
            if let Some((stub, file)) = stands {
                return self.send_stub(task, &client, &sends, (stub, file, stat, modified)).await;
            }
        }
        if stat.size >= LARGE {
            let file = on_disk(move || ground.read(&way, seen)).await?;
            let large = Large { task, client: &client, sends: &sends, seen, bytes, modified };
            if let Some(done) = self.send_what_differs(&large, &file).await? {
                return Ok(done);
            }
            return self.send_in_parts(&large, file).await;
        }
        let read = on_disk(move || {
            let mut file = ground.read(&way, seen)?;
            let mut all = Vec::with_capacity(stat.size as usize);
            file.read_to_end(&mut all).map_err(NotDone::Failed)?;
            match Ground::is_still(&file, seen) && *blake3::hash(&all).as_bytes() == bytes {
                true => Ok(Bytes::from(all)),
                false => Err(NotDone::Otherwise),
            }
        })
        .await?;
        self.line(task, true, 0, stat.size).moves(stat.size).await;
        let done = match sends.thing.as_str() {
            "new" => {
                client
                    .put(sends.parent, &sends.name, modified.as_deref(), &When::default(), read.into())
                    .await
            }
            node => {
                let node = node.parse().map_err(|_| Came::from(Outcome::OtherwiseThere))?;
                client.put_onto(node, modified.as_deref(), read.into()).await
            }
        };
        there(&done?)
    }

    /// Has the service make a file of a state that it has: of one whose bytes are only there.
    async fn send_stub(
        &self,
        task: &Task,
        client: &Client,
        sends: &Sends,
        (stub, file, stat, modified): (Stub, File, Stat, Option<String>),
    ) -> Done {
        let head = api::DeltaHead {
            bases: vec![api::DeltaBase {
                node: stub.node.0,
                at: Some(stub.moment.token()),
                etag: etag(&stub.hash),
            }],
            size: stub.size,
            blake3: blake3::Hash::from_bytes(stub.hash).to_hex().to_string(),
            modified,
            executable: Some(stat.executable),
        };
        let line = Arc::new(self.line(task, true, 0, stub.size));
        let all = vec![Piece::Same { at: 0, length: stub.size }];
        match client.assemble(sends.parent, &sends.name, body(&head, all, file, line)?).await {
            Ok(placed) => there(&placed),
            // It has that state no more.
            Err(e) if matches!(e.code(), Some("base_changed" | "wrong_hash" | "purged" | "not_kept")) => {
                Ok(Outcome::Refused("not_at_hand".into()))
            }
            Err(e) => Err(e.into()),
        }
    }

    /// Sends what differs from the state of a large file that it was changed from, if that is little. Nothing: all is to be sent.
    async fn send_what_differs(&self, large: &Large<'_>, file: &File) -> Result<Option<Outcome>, Came> {
        let Large { task, client, sends, seen, bytes, modified } = large;
        let size = seen.1.size;
        let Ok(node) = sends.thing.parse() else { return Ok(None) };
        // A service that does not answer is heard of when all is sent.
        let Ok((list, old)) = listed(&self.client, node, None).await else { return Ok(None) };
        if size < WORTH || (list.size as u64) < WORTH {
            return Ok(None);
        }
        let open = |file: &File| file.try_clone().map_err(|e| Came::from(NotDone::Failed(e)));
        let (cut, feed) = (open(file)?, open(file)?);
        let (new, hash) = on_disk(move || cut_file(cut).map_err(NotDone::Failed)).await?;
        let blake3 = blake3::Hash::from_bytes(*bytes).to_hex().to_string();
        if hash != blake3 {
            return Ok(Some(Outcome::OtherwiseHere));
        }
        let pieces = plan(&old, &new);
        if !is_worth(&pieces, size) || new_bytes(&pieces) > MOST_NEW {
            return Ok(None);
        }
        let head = api::DeltaHead {
            bases: vec![api::DeltaBase { node, at: None, etag: list.etag }],
            size,
            blake3,
            modified: modified.clone(),
            executable: Some(seen.1.executable),
        };
        let line = Arc::new(self.line(task, true, 0, size));
        match client.assemble(sends.parent, &sends.name, body(&head, pieces, feed, line)?).await {
            Ok(placed) => Ok(Some(there(&placed)?)),
            Err(e) => match e.code() {
                // Somebody else was faster, or the file is written to.
                Some("base_changed") => Ok(Some(Outcome::OtherwiseThere)),
                Some("wrong_hash" | "delta_malformed") => Ok(Some(Outcome::OtherwiseHere)),
                _ => Err(e.into()),
            },
        }
    }

    /// Sends a large file in parts: the bytes first, and their place when they are all there.
    async fn send_in_parts(&self, large: &Large<'_>, file: File) -> Done {
        let Large { task, client, sends, seen, bytes, modified } = large;
        let (seen, bytes, modified) = (*seen, *bytes, modified.clone());
        let blake3 = blake3::Hash::from_bytes(bytes).to_hex().to_string();
        let size = seen.1.size;
        let new = NewUpload {
            parent: sends.parent,
            name: sends.name.clone(),
            size,
            modified,
            blake3: Some(blake3.clone()),
            only_kept: true,
        };
        let known = self.client.uploads().await?.uploads.into_iter().find(|u| {
            u.parent == new.parent
                && u.name == new.name
                && u.size == size
                && u.blake3.as_deref() == Some(&blake3)
        });
        let (id, mut from) = match known {
            Some(upload) => {
                let from = self.client.upload_offset(&upload.id).await?;
                (upload.id, from)
            }
            None => (self.client.begin_upload(&new).await?, 0),
        };
        let file = Arc::new(file);
        let line = Arc::new(self.line(task, true, from, size));
        let mut broken = 0;
        while from < size {
            let length = (size - from).min(64 << 20);
            let body = Body::stream(Some(length), pieces(file.clone(), from, length, line.clone()));
            match self.client.append(&id, from, body).await {
                Ok(upto) => (from, broken) = (upto, 0),
                // All is there, and its place is named next.
                Err(e) if e.code() == Some("changed_meanwhile") || e.code() == Some("condition_failed") => {
                    break;
                }
                Err(e)
                    if may_pass(&e)
                        || matches!(e.code(), Some("part_cut_short" | "wrong_offset" | "taken_over")) =>
                {
                    broken += 1;
                    if broken > 20 {
                        return Err(e.into());
                    }
                    tokio::time::sleep(crate::patience::AGAIN).await;
                    if let Ok(upto) = self.client.upload_offset(&id).await {
                        from = upto;
                        line.stands(upto);
                    }
                }
                Err(e) => return Err(e.into()),
            }
        }
        let still = file.clone();
        if !tokio::task::spawn_blocking(move || Ground::is_still(&still, seen)).await.unwrap_or(false) {
            let _ = self.client.end_upload(&id).await;
            return Ok(Outcome::OtherwiseHere);
        }
        let place = api::UploadPlace {
            parent: sends.parent,
            name: sends.name.clone(),
            replace: sends.thing != "new",
        };
        let placed = match client.place_upload(&id, &place).await {
            // Other bytes than were announced: the file was written to.
            Err(e) if e.code() == Some("wrong_hash") => return Ok(Outcome::OtherwiseHere),
            other => other?,
        };
        if placed.executable != seen.1.executable {
            let mark = api::Target { executable: Some(seen.1.executable), ..Default::default() };
            return there(&self.client.change(placed.id, &mark).await?);
        }
        there(&placed)
    }
}

/// What is sent, and where to.
pub(super) struct Sends {
    pub(super) thing: String,
    pub(super) seen: Option<String>,
    pub(super) parent: i64,
    pub(super) name: String,
}

/// A large file that is sent.
struct Large<'t> {
    task: &'t Task,
    client: &'t Client,
    sends: &'t Sends,
    seen: (Object, Stat),
    bytes: Hash,
    modified: Option<String>,
}

/// A part of a file, read as the line takes it, and no faster than it may go.
fn pieces(
    file: Arc<File>,
    from: u64,
    length: u64,
    line: Arc<Line>,
) -> impl futures_util::Stream<Item = std::io::Result<Bytes>> + Send + 'static {
    let end = from + length;
    futures_util::stream::try_unfold((file, from, line), move |(file, at, line)| async move {
        if at >= end {
            return Ok(None);
        }
        let many = (end - at).min(256 << 10) as usize;
        let (its, read) = tokio::task::spawn_blocking(move || {
            let mut piece = vec![0; many];
            let read = std::os::unix::fs::FileExt::read_exact_at(&*file, &mut piece, at).map(|()| piece);
            (file, read)
        })
        .await
        .map_err(std::io::Error::other)?;
        let piece = Bytes::from(read?);
        line.moves(many as u64).await;
        Ok(Some((piece, (its, at + many as u64, line))))
    })
}
