//! What a person keeps here, and releases.

use super::files::errno;
use super::inner::Inner;
use super::nodes::Seen;
use crate::pairs::stubs::stub_of;
use fuser::FileType;
use serde::{Deserialize, Serialize};
use std::io;
use std::sync::Arc;
use std::time::Duration;
use yellow_attic_core::merge::Object;
use yellow_attic_core::mounted::room::Thing;
use yellow_attic_core::mounted::stub::Stub;

/// So long is waited for what is to be released.
const PATIENCE: Duration = Duration::from_secs(20);

/// What keeping or releasing came to. All files that were given are one of these.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Came {
    /// Files beneath, or the one.
    pub files: u64,
    /// Those that are here with all their bytes now; or that were released.
    pub done: u64,
    /// Those that were so before.
    pub were: u64,
    /// Those that are not, and why.
    pub not: u64,
    /// Why the first of them is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Bytes fetched, or given back.
    pub bytes: u64,
}

/// A file beneath a folder.
struct Found {
    ino: u64,
    object: Object,
    stub: Option<Stub>,
    takes: u64,
}

/// What is known as long as something is done with it: what programs know is counted beside that.
pub(super) struct Told<'i> {
    inner: &'i Inner,
    numbers: Vec<u64>,
}

impl<'i> Told<'i> {
    pub(super) fn new(inner: &'i Inner) -> Told<'i> {
        Told { inner, numbers: Vec::new() }
    }

    pub(super) fn tell(&mut self, folder: u64, name: &[u8], seen: &Seen) {
        self.inner.nodes.tell(folder, name, seen);
        self.numbers.push(seen.attr.ino.0);
    }
}

impl Drop for Told<'_> {
    fn drop(&mut self) {
        self.numbers.iter().for_each(|number| self.inner.nodes.forget(*number, 1));
    }
}

impl Inner {
    /// The thing at a way below the mounted folder, when all of its shelf is known.
    pub(super) async fn find(&self, way: &[Vec<u8>], told: &mut Told<'_>) -> io::Result<Seen> {
        let mut ino = 1;
        let mut seen = self.see(1)?;
        for name in way {
            self.known(ino).await;
            seen = self.look_up(ino, name)?;
            ino = seen.attr.ino.0;
            told.numbers.push(ino);
        }
        self.known(ino).await;
        Ok(seen)
    }

    /// All files beneath, or the one.
    fn beneath(&self, ino: u64, all: &mut Vec<Found>, told: &mut Told<'_>) -> io::Result<()> {
        let seen = self.see(ino)?;
        if seen.attr.kind != FileType::Directory {
            let file = self.nodes.open(ino, false)?;
            let (_, takes, _) = crate::pairs::at_hand::what_is(&file)?;
            all.push(Found { ino, object: seen.object, stub: stub_of(&file), takes });
            return Ok(());
        }
        for entry in self.list(ino)? {
            let Some(seen) = entry.seen else { continue };
            told.tell(ino, &entry.name, &seen);
            self.beneath(seen.attr.ino.0, all, told)?;
        }
        Ok(())
    }

    /// Keeps something here, with all beneath and all that comes into it, and fetches what is missing.
    pub(super) async fn keep(self: &Arc<Inner>, way: &[Vec<u8>]) -> io::Result<Came> {
        let mut told = Told::new(self);
        let seen = self.find(way, &mut told).await?;
        self.at_hand.keep(seen.object, true)?;
        self.at_hand.wake();
        self.fetch_kept(seen.attr.ino.0).await
    }

    async fn fetch_kept(self: &Arc<Inner>, ino: u64) -> io::Result<Came> {
        let (mut all, mut told) = (Vec::new(), Told::new(self));
        self.beneath(ino, &mut all, &mut told)?;
        let mut came = Came { files: all.len() as u64, ..Came::default() };
        for file in all {
            let Some(stub) = file.stub else {
                came.were += 1;
                self.at_hand.room().keeps(Thing::File(file.object), true);
                continue;
            };
            match self.fetch_one(file.ino).await {
                Ok(_) => {
                    self.at_hand.room().keeps(Thing::File(file.object), true);
                    came.done += 1;
                    came.bytes += stub.size;
                }
                Err(number) => {
                    came.not += 1;
                    came.why.get_or_insert_with(|| io::Error::from_raw_os_error(number).to_string());
                }
            }
        }
        Ok(came)
    }

    async fn fetch_one(&self, ino: u64) -> Result<bool, i32> {
        let handle = self.files.open(ino, false).map_err(|e| errno(&e))?;
        let open = self.files.get(handle).map_err(|e| errno(&e))?;
        let done = self.files.bring(&open.file).await;
        self.files.close(handle);
        done
    }

    /// Fetches what is kept and not here: after a start, and when something was moved into what is kept.
    pub(super) async fn fetch_all_kept(self: &Arc<Inner>, ino: u64) -> io::Result<()> {
        if !self.at_hand.keeps_any() {
            return Ok(());
        }
        let seen = self.see(ino)?;
        if self.at_hand.is_kept(seen.object) {
            return self.fetch_kept(ino).await.map(|_| ());
        }
        if seen.attr.kind == FileType::Directory {
            let mut told = Told::new(self);
            for entry in self.list(ino)? {
                if let Some(seen) = entry.seen {
                    told.tell(ino, &entry.name, &seen);
                    Box::pin(self.fetch_all_kept(seen.attr.ino.0)).await?;
                }
            }
        }
        Ok(())
    }

    /// Gives the room of something back at once: it is kept no more, and what the service has is only there.
    pub(super) async fn release(self: &Arc<Inner>, way: &[Vec<u8>]) -> io::Result<Came> {
        let (mut all, mut told) = (Vec::new(), Told::new(self));
        let seen = self.find(way, &mut told).await?;
        self.beneath(seen.attr.ino.0, &mut all, &mut told)?;
        self.at_hand.keep(seen.object, false)?;
        let mut came = Came { files: all.len() as u64, ..Came::default() };
        let mut wanted = Vec::new();
        for file in &all {
            self.at_hand.keep(file.object, false)?;
            self.at_hand.room().keeps(Thing::File(file.object), false);
            match file.stub {
                Some(stub) => match self.blocks.drop_content(stub.hash) {
                    0 => came.were += 1,
                    bytes => {
                        came.done += 1;
                        came.bytes += bytes;
                    }
                },
                None if file.takes == 0 => came.were += 1,
                None => wanted.push(file),
            }
        }
        let objects: Vec<Object> = wanted.iter().map(|file| file.object).collect();
        let mut news = self.at_hand.news();
        let until = tokio::time::Instant::now() + PATIENCE;
        let is_here = |file: &Found| self.nodes.open(file.ino, false).is_ok_and(|it| stub_of(it).is_none());
        loop {
            news.borrow_and_update();
            // What is open or owed will not go soon.
            let waits: Vec<Object> = wanted
                .iter()
                .filter(|file| self.at_hand.room().is_idle(Thing::File(file.object)) && is_here(file))
                .map(|file| file.object)
                .collect();
            if waits.is_empty() {
                break;
            }
            self.at_hand.want_released(waits);
            let next = tokio::time::Instant::now() + Duration::from_secs(1);
            let _ = tokio::time::timeout_at(next.min(until), news.changed()).await;
            if tokio::time::Instant::now() >= until {
                break;
            }
        }
        self.at_hand.want_no_more(&objects);
        for file in wanted {
            if is_here(file) {
                came.not += 1;
                let owed = self.at_hand.room().is_owed(Thing::File(file.object));
                let why = if owed { "the service does not have it yet" } else { "a program has it open" };
                came.why.get_or_insert_with(|| why.to_string());
            } else {
                came.done += 1;
                came.bytes += file.takes;
            }
        }
        Ok(came)
    }
}
