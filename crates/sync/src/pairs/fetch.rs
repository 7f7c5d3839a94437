//! Fetches the bytes of one file: from where they were broken off, and of a large one only what differs from what lies here.

use super::act::{Came, Done, Hands, Task, here, on_disk};
use super::ground::NotDone;
use crate::delta::{Meter, WORTH, cut_file, is_worth_fetching, listed, put_together};
use futures_util::StreamExt;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use yellow_attic_core::delta::{after, plan};
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::{Object, Stat, There};
use yellow_attic_core::mounted::stub::Stub;

/// So much stays free on this computer's disk.
const ROOM: u64 = 64 << 20;

/// A file that arrives: so many bytes of it are there.
struct Arriving {
    file: File,
    hasher: blake3::Hasher,
    got: u64,
}

impl Arriving {
    fn of(mut file: File, want: u64) -> std::io::Result<Arriving> {
        let mut hasher = blake3::Hasher::new();
        let mut buffer = vec![0; 256 * 1024];
        let mut got = 0;
        loop {
            match file.read(&mut buffer)? {
                0 => break,
                n => {
                    hasher.update(&buffer[..n]);
                    got += n as u64;
                }
            }
        }
        if got > want {
            file.set_len(0)?;
            file.seek(SeekFrom::Start(0))?;
            (hasher, got) = (blake3::Hasher::new(), 0);
        }
        Ok(Arriving { file, hasher, got })
    }
}

/// What stands here for a state whose bytes stay on the service.
pub(super) fn stub_for(state: &There) -> Option<Stub> {
    let (hash, size) = state.bytes?;
    Some(Stub { hash, size, node: state.node, moment: state.moment })
}

impl Hands {
    pub(super) async fn fetch(&self, task: &Task, name: &str, state: &There, over: Option<Stat>) -> Done {
        let Some((hash, size)) = state.bytes else { return Ok(Outcome::OtherwiseThere) };
        let above = task.above.clone().ok_or_else(|| Came::from(Outcome::OtherwiseHere))?;
        let over = match over {
            Some(stat) => Some((task.object.ok_or_else(|| Came::from(Outcome::OtherwiseHere))?, stat)),
            None => None,
        };
        // The same bytes of the same file go on where they were broken off.
        let arrived = format!("part-{}-{}", state.node.0, &blake3::Hash::from_bytes(hash).to_hex()[..16]);
        let mut arriving = self.arriving(&arrived, size).await?;
        if let Some(over) = over
            && self.fetch_what_differs(task, state, over, &arriving).await?
        {
            arriving = self.arriving(&arrived, size).await?;
        }
        let got = arriving.got;
        let arriving = self.fetch_rest(task, state, size, arriving).await?;
        if arriving.got != size || *arriving.hasher.finalize().as_bytes() != hash {
            let cut_short = arriving.got < size;
            let ground = self.ground.clone();
            on_disk(move || {
                ground.drop_arriving(&arrived);
                Ok(())
            })
            .await?;
            // What lay here from an earlier try, or was put together of what differs, was other than it should be: all is
            // fetched next time.
            return Ok(if cut_short || got > 0 { Outcome::Unknown } else { Outcome::OtherwiseThere });
        }
        let (ground, name, executable) = (self.ground.clone(), name.as_bytes().to_vec(), state.executable);
        let modified = state.modified;
        let landed = on_disk(move || {
            drop(arriving);
            ground.land(&arrived, &above, &name, over, (modified, executable))
        })
        .await?;
        Ok(here(landed))
    }

    /// Brings a file here whose bytes stay on the service.
    pub(super) async fn fetch_stub(
        &self,
        task: &Task,
        name: &str,
        state: &There,
        over: Option<Stat>,
    ) -> Done {
        let Some(stub) = stub_for(state) else { return Ok(Outcome::OtherwiseThere) };
        let above = task.above.clone().ok_or_else(|| Came::from(Outcome::OtherwiseHere))?;
        let over = match over {
            Some(stat) => Some((task.object.ok_or_else(|| Came::from(Outcome::OtherwiseHere))?, stat)),
            None => None,
        };
        let arrived = format!("stub-{}", task.action.item.0);
        let (ground, name, how) =
            (self.ground.clone(), name.as_bytes().to_vec(), (state.modified, state.executable));
        let landed = on_disk(move || {
            ground.arriving_stub(&arrived, &stub)?;
            let landed = ground.land(&arrived, &above, &name, over, how);
            if landed.is_err() {
                ground.drop_arriving(&arrived);
            }
            landed
        })
        .await?;
        Ok(here(landed))
    }

    /// What has arrived of a file.
    async fn arriving(&self, name: &str, size: u64) -> Result<Arriving, Came> {
        let (ground, name) = (self.ground.clone(), name.to_string());
        on_disk(move || {
            let arriving = Arriving::of(ground.arriving(&name).map_err(NotDone::Failed)?, size)
                .map_err(NotDone::Failed)?;
            if ground.free() < (size - arriving.got).saturating_add(ROOM) {
                return Err(NotDone::Failed(std::io::ErrorKind::StorageFull.into()));
            }
            Ok(arriving)
        })
        .await
    }

    /// Fetches what is not there yet, behind it.
    async fn fetch_rest(
        &self,
        task: &Task,
        state: &There,
        size: u64,
        mut arriving: Arriving,
    ) -> Result<Arriving, Came> {
        if arriving.got == size && size > 0 {
            return Ok(arriving);
        }
        let line = self.line(task, false, arriving.got, size);
        // A state by its moment: it stays what it is, whatever comes after.
        let stream = self.client.content(state.node.0, Some(&state.moment.token()), arriving.got).await?;
        let mut stream = std::pin::pin!(stream);
        while let Some(piece) = stream.next().await {
            let piece = piece?;
            line.moves(piece.len() as u64).await;
            arriving = on_disk(move || {
                arriving.got += piece.len() as u64;
                arriving.hasher.update(&piece);
                arriving.file.write_all(&piece).map_err(NotDone::Failed)?;
                Ok(arriving)
            })
            .await?;
        }
        Ok(arriving)
    }

    /// Puts a large file together of what lies here in an older state and of what is fetched, behind what has arrived of it.
    /// Whether anything was put there: whether it is what it should be is seen when all is there.
    async fn fetch_what_differs(
        &self,
        task: &Task,
        state: &There,
        seen: (Object, Stat),
        arrived: &Arriving,
    ) -> Result<bool, Came> {
        let Some((hash, size)) = state.bytes else { return Ok(false) };
        let (Some(way), true) =
            (task.way.clone(), size.saturating_sub(arrived.got) >= WORTH && seen.1.size >= WORTH)
        else {
            return Ok(false);
        };
        let moment = state.moment.token();
        let Ok((list, new)) = listed(&self.client, state.node.0, Some(&moment)).await else {
            return Ok(false);
        };
        if list.blake3 != blake3::Hash::from_bytes(hash).to_hex().as_str() {
            return Ok(false);
        }
        let ground = self.ground.clone();
        let Some((old, chunks)) = on_disk(move || {
            let file = match ground.read(&way, seen) {
                Err(NotDone::NotAtHand) => return Ok(None),
                file => file?,
            };
            let (chunks, _) =
                cut_file(file.try_clone().map_err(NotDone::Failed)?).map_err(NotDone::Failed)?;
            Ok(Some((file, chunks)))
        })
        .await?
        else {
            return Ok(false);
        };
        let pieces = after(&plan(&chunks, &new), arrived.got);
        if !is_worth_fetching(&pieces, size - arrived.got) {
            return Ok(false);
        }
        let line = self.line(task, false, arrived.got, size);
        let file = arrived.file.try_clone().map_err(|e| Came::from(NotDone::Failed(e)))?;
        let files = (old, file, arrived.hasher.clone());
        let put = put_together(&self.client, (state.node.0, Some(&moment)), files, &pieces, &line).await;
        match put {
            Ok(_) => Ok(true),
            // What is there stays: the rest is fetched behind it, now or next time.
            Err(e) => Err(e.into()),
        }
    }
}
