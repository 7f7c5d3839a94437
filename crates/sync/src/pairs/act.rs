//! Carries out what a pair says is to be done, here and on the service.

use super::feed;
use super::ground::{Ground, NotDone, Stands, Way};
use super::limits::Paces;
use crate::patience::may_pass;
use bytes::Bytes;
use futures_util::StreamExt;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use yellow_attic_client::{Body, Client, Error, NewUpload, Stated, When, api};
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Hash, Object, Stat};

/// Files from this size on are sent in parts, so that a broken line costs nothing.
const LARGE: u64 = 8 << 20;

/// What an action is carried out with: where things are here, looked up when it was decided.
pub struct Task {
    /// The action.
    pub action: Action,
    /// The way to the thing here, as the file system has it.
    pub way: Option<Way>,
    /// The object that it was here.
    pub object: Option<Object>,
    /// The way to the folder that it goes to here.
    pub above: Option<Way>,
    /// What the request is called, so that its repeat does nothing twice.
    pub request: String,
    /// Its name and folder on the service, for what is sent in parts.
    pub named: Option<(i64, String)>,
}

/// Carries out actions of one pair.
#[derive(Clone)]
pub struct Hands {
    /// The service.
    pub client: Client,
    /// The folder here.
    pub ground: Arc<Ground>,
    /// Milliseconds since 1970 to RFC 3339.
    pub show_time: fn(i64) -> Option<String>,
    /// Bytes sent and fetched.
    pub moved: Arc<AtomicU64>,
    /// How fast.
    pub paces: Arc<Paces>,
}

/// What came of it, and what is to be told to somebody.
pub struct Came {
    /// The outcome.
    pub outcome: Outcome,
    /// Why the whole pair is in trouble, if it is.
    pub trouble: Option<Trouble>,
}

/// What stands in the way of a whole pair.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trouble {
    /// The service does not answer.
    Away(String),
    /// It lets this computer in no more: the words say why.
    Shut(String),
    /// This computer's disk says no.
    Disk(String),
}

impl Trouble {
    /// As people read it.
    pub fn words(&self) -> String {
        match self {
            Trouble::Away(why) => format!("the service does not answer: {why}"),
            Trouble::Shut(why) => format!("the service lets this computer in no more: {why}"),
            Trouble::Disk(why) => format!("this computer's disk: {why}"),
        }
    }
}

impl From<Outcome> for Came {
    fn from(outcome: Outcome) -> Came {
        Came { outcome, trouble: None }
    }
}

impl From<NotDone> for Came {
    fn from(not: NotDone) -> Came {
        match not {
            NotDone::Otherwise => Outcome::OtherwiseHere.into(),
            NotDone::Busy => Outcome::Busy.into(),
            NotDone::Failed(e) => {
                Came { outcome: Outcome::Unknown, trouble: Some(Trouble::Disk(e.to_string())) }
            }
        }
    }
}

/// What a refusal of the service means.
pub fn trouble_of(error: &Error) -> Option<Trouble> {
    match error {
        Error::Line(why) => Some(Trouble::Away(why.clone())),
        Error::Refused(p)
            if p.status == 401 || ["door_closed", "account_closed"].contains(&p.code.as_str()) =>
        {
            Some(Trouble::Shut(p.detail.clone()))
        }
        Error::Refused(p) if p.status >= 500 && p.status != 507 || p.status == 429 => {
            Some(Trouble::Away(p.detail.clone()))
        }
        Error::Strange(why) => Some(Trouble::Away(why.clone())),
        _ => None,
    }
}

impl From<Error> for Came {
    fn from(error: Error) -> Came {
        if let Some(trouble) = trouble_of(&error) {
            return Came { outcome: Outcome::Unknown, trouble: Some(trouble) };
        }
        match &error {
            Error::Refused(p) => match p.code.as_str() {
                "changed_meanwhile" | "not_found" | "name_taken" | "place_gone" | "folder_in_the_way"
                | "condition_failed" | "busy" | "into_itself" | "wrong_hash" | "not_a_folder"
                | "not_a_file" => Outcome::OtherwiseThere.into(),
                "still_here" => Outcome::Elsewhere.into(),
                code => Outcome::Refused(code.to_string()).into(),
            },
            other => Came { outcome: Outcome::Unknown, trouble: Some(Trouble::Disk(other.to_string())) },
        }
    }
}

type Done = Result<Outcome, Came>;

fn here((object, stat): Stands) -> Outcome {
    Outcome::Here(object, stat)
}

fn there(node: &api::Node) -> Done {
    Ok(Outcome::There(vec![feed::node(node)?]))
}

/// Does something with the disk, where waiting for it holds nobody up.
async fn on_disk<T: Send + 'static>(
    does: impl FnOnce() -> Result<T, NotDone> + Send + 'static,
) -> Result<T, Came> {
    match tokio::task::spawn_blocking(does).await {
        Ok(done) => Ok(done?),
        Err(_) => Err(Outcome::Unknown.into()),
    }
}

impl Hands {
    /// Carries it out.
    pub async fn carry_out(&self, task: &Task) -> Came {
        match self.try_it(task).await {
            Ok(outcome) => outcome.into(),
            Err(came) => came,
        }
    }

    async fn try_it(&self, task: &Task) -> Done {
        let ground = self.ground.clone();
        let otherwise = || Came::from(Outcome::OtherwiseHere);
        let way = || task.way.clone().ok_or_else(otherwise);
        let above = || task.above.clone().ok_or_else(otherwise);
        let object = || task.object.ok_or_else(otherwise);
        match &task.action.does {
            Does::ReadHash(stat) => {
                let (way, seen) = (way()?, (object()?, *stat));
                Ok(Outcome::Read(on_disk(move || ground.hash(&way, seen)).await?))
            }
            Does::MakeFolderHere((_, name)) => {
                let (above, name) = (above()?, name.clone().into_bytes());
                Ok(here(on_disk(move || ground.make_folder(&above, &name)).await?))
            }
            Does::MoveHere { slot: (_, name), was, .. } | Does::SetAside((_, name), was) => {
                let (way, above, seen) = (way()?, above()?, (object()?, *was));
                let name = name.clone().into_bytes();
                Ok(here(on_disk(move || ground.rename(&way, seen, &above, &name)).await?))
            }
            Does::RemoveHere(Some(stat)) => {
                let (way, seen) = (way()?, (object()?, *stat));
                on_disk(move || ground.remove_file(&way, seen)).await?;
                Ok(Outcome::Removed)
            }
            Does::RemoveHere(None) => {
                let (way, seen) = (way()?, object()?);
                on_disk(move || ground.remove_folder(&way, seen)).await?;
                Ok(Outcome::Removed)
            }
            Does::MarkHere(executable, was) => {
                let (way, seen, on) = (way()?, (object()?, was.ok_or_else(otherwise)?), *executable);
                Ok(here(on_disk(move || ground.mark(&way, seen, on)).await?))
            }
            Does::Fetch { slot, state, over } => self.fetch(task, &slot.1, state, *over).await,
            Does::MakeFolderThere { parent, name } => {
                there(&self.stating(task, None, None, None).make_folder(parent.0, name).await?)
            }
            Does::PutNew { parent, name, bytes, stat } => {
                let sends = Sends { thing: "new".into(), seen: None, parent: parent.0, name: name.clone() };
                self.send(task, sends, *bytes, *stat).await
            }
            Does::PutOnto { node, seen, bytes, stat } => {
                let (parent, name) = task.named.clone().ok_or_else(|| Came::from(Outcome::OtherwiseThere))?;
                let sends = Sends { thing: node.0.to_string(), seen: Some(seen.token()), parent, name };
                self.send(task, sends, *bytes, *stat).await
            }
            Does::Revive { node, parent, name } => {
                let body =
                    api::Restore { parent: Some(parent.0), name: Some(name.clone()), ..Default::default() };
                there(&self.client.restore(node.0, &body).await?)
            }
            Does::MoveThere(moves) => {
                let one = |m: &yellow_attic_core::merge::plan::Move| api::OneMove {
                    node: m.node.0,
                    parent: Some(m.parent.0),
                    name: Some(m.name.clone()),
                    seen: Some(m.seen.token()),
                };
                let moves = moves.iter().map(one).collect();
                let done = self.stating(task, None, None, None).move_together(moves).await?;
                Ok(Outcome::There(done.nodes.iter().map(feed::node).collect::<Result<_, _>>()?))
            }
            Does::RemoveThere { node, seen } => {
                let thing = node.0.to_string();
                match self.stating(task, Some(thing), Some(seen.token()), None).remove(node.0).await {
                    Ok(()) => Ok(Outcome::Removed),
                    Err(e) => Err(e.into()),
                }
            }
            Does::MarkThere { node, executable } => {
                let mark = api::Target { executable: Some(*executable), ..Default::default() };
                there(&self.client.change(node.0, &mark).await?)
            }
        }
    }

    fn stating(
        &self,
        task: &Task,
        thing: Option<String>,
        seen: Option<String>,
        executable: Option<bool>,
    ) -> Client {
        self.client.stating(Stated { thing, seen, request: Some(task.request.clone()), executable })
    }

    async fn fetch(
        &self,
        task: &Task,
        name: &str,
        state: &yellow_attic_core::merge::There,
        over: Option<Stat>,
    ) -> Done {
        let Some((hash, size)) = state.bytes else { return Ok(Outcome::OtherwiseThere) };
        let above = task.above.clone().ok_or_else(|| Came::from(Outcome::OtherwiseHere))?;
        let over = match over {
            Some(stat) => Some((task.object.ok_or_else(|| Came::from(Outcome::OtherwiseHere))?, stat)),
            None => None,
        };
        // The same bytes of the same file go on where they were broken off.
        let arrived = format!("part-{}-{}", state.node.0, &blake3::Hash::from_bytes(hash).to_hex()[..16]);
        let ground = self.ground.clone();
        let (its, want) = (arrived.clone(), size);
        let (mut file, mut hasher, mut got) = on_disk(move || {
            if ground.free() < want.saturating_add(64 << 20) {
                return Err(NotDone::Failed(std::io::ErrorKind::StorageFull.into()));
            }
            let mut file = ground.arriving(&its).map_err(NotDone::Failed)?;
            let mut hasher = blake3::Hasher::new();
            let mut buffer = vec![0; 256 * 1024];
            let mut got = 0;
            loop {
                match file.read(&mut buffer).map_err(NotDone::Failed)? {
                    0 => break,
                    n => drop(hasher.update(&buffer[..n])),
                }
                got = file.stream_position().map_err(NotDone::Failed)?;
            }
            if got > want {
                file.set_len(0).map_err(NotDone::Failed)?;
                file.seek(SeekFrom::Start(0)).map_err(NotDone::Failed)?;
                (hasher, got) = (blake3::Hasher::new(), 0);
            }
            Ok((file, hasher, got))
        })
        .await?;
        if got < size || size == 0 {
            // A state by its moment: it stays what it is, whatever comes after.
            let stream = self.client.content(state.node.0, Some(&state.moment.token()), got).await?;
            let mut stream = std::pin::pin!(stream);
            while let Some(piece) = stream.next().await {
                let piece = piece?;
                got += piece.len() as u64;
                self.moved.fetch_add(piece.len() as u64, Ordering::Relaxed);
                self.paces.down.take(piece.len() as u64).await;
                hasher.update(&piece);
                file = on_disk(move || {
                    file.write_all(&piece).map_err(NotDone::Failed)?;
                    Ok(file)
                })
                .await?;
            }
        }
        if got != size || *hasher.finalize().as_bytes() != hash {
            let ground = self.ground.clone();
            on_disk(move || {
                ground.drop_arriving(&arrived);
                Ok(())
            })
            .await?;
            return Ok(if got < size { Outcome::Unknown } else { Outcome::OtherwiseThere });
        }
        let (ground, name, executable) = (self.ground.clone(), name.as_bytes().to_vec(), state.executable);
        let modified = state.modified;
        let landed = on_disk(move || {
            drop(file);
            ground.land(&arrived, &above, &name, over, (modified, executable))
        })
        .await?;
        Ok(here(landed))
    }

    async fn send(&self, task: &Task, sends: Sends, bytes: Hash, stat: Stat) -> Done {
        let otherwise = || Came::from(Outcome::OtherwiseHere);
        let (way, seen) =
            (task.way.clone().ok_or_else(otherwise)?, (task.object.ok_or_else(otherwise)?, stat));
        let modified = (self.show_time)(stat.modified.div_euclid(1_000_000));
        let client = self.stating(task, Some(sends.thing.clone()), sends.seen.clone(), Some(stat.executable));
        let ground = self.ground.clone();
        if stat.size >= LARGE {
            let file = on_disk(move || ground.read(&way, seen)).await?;
            return self.send_in_parts(&client, file, seen, &sends, bytes, modified).await;
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
        self.moved.fetch_add(read.len() as u64, Ordering::Relaxed);
        self.paces.up.take(read.len() as u64).await;
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

    /// Sends a large file in parts: the bytes first, and their place when they are all there.
    async fn send_in_parts(
        &self,
        client: &Client,
        file: File,
        seen: (Object, Stat),
        sends: &Sends,
        bytes: Hash,
        modified: Option<String>,
    ) -> Done {
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
        let mut broken = 0;
        while from < size {
            let length = (size - from).min(64 << 20);
            let body = Body::stream(
                Some(length),
                pieces(file.clone(), from, length, self.moved.clone(), self.paces.clone()),
            );
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
struct Sends {
    thing: String,
    seen: Option<String>,
    parent: i64,
    name: String,
}

/// A part of a file, read as the line takes it, and no faster than it may go.
fn pieces(
    file: Arc<File>,
    from: u64,
    length: u64,
    moved: Arc<AtomicU64>,
    paces: Arc<Paces>,
) -> impl futures_util::Stream<Item = std::io::Result<Bytes>> + Send + 'static {
    let end = from + length;
    futures_util::stream::try_unfold((file, from, moved, paces), move |(file, at, moved, paces)| async move {
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
        paces.up.take(many as u64).await;
        moved.fetch_add(piece.len() as u64, Ordering::Relaxed);
        Ok(Some((piece, (its, at + many as u64, moved, paces))))
    })
}
