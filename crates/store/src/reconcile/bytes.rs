//! Files that are new or have changed: their bytes are read where they lie, and then they are taken up.

use crate::files::past::hash_as_seen;
use crate::fs::disk::Look;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Row;
use crate::ops::found::Foreign;
use crate::ops::hands::{Hand, Spot};
use crate::reconcile::children::{Dir, path_of};
use crate::reconcile::pass::{LOT, Pass};

/// A file of which the bytes tell what it is.
pub(super) struct ToRead {
    pub row: Row,
    pub look: Look,
    /// Only something beside its bytes differs, so far.
    pub in_doubt: bool,
    /// Nothing of it was changed since its bytes were known.
    pub untouched: bool,
}

/// A file to be hashed where it lies.
struct Lying {
    dir: Dir,
    name: String,
    look: Look,
}

/// What became of reading a file.
enum Read {
    As(Foreign),
    /// It did not stand still meanwhile.
    InMotion,
    /// It cannot be read.
    Not(String),
}

impl Pass<'_> {
    pub(super) async fn take_files(&mut self) -> Result<()> {
        let files = std::mem::take(&mut self.appeared);
        for part in files.chunks(LOT) {
            self.goes_on()?;
            let mut lying = Vec::new();
            for one in part {
                if let Ok(dir) = self.engine.shared.dirs.find(one.parent).await {
                    lying.push((one, Lying { dir, name: one.name.to_string(), look: one.look }));
                }
            }
            let (ones, lying): (Vec<_>, Vec<_>) = lying.into_iter().unzip();
            let read = match self.looking.take_up {
                true => self.read(lying).await?,
                false => ones.iter().map(|_| Read::InMotion).collect(),
            };
            let mut hands = Vec::new();
            for (one, foreign) in ones.into_iter().zip(read) {
                let path = format!("{}/{}", self.path(one.parent).await?, one.name);
                match foreign {
                    Read::As(foreign) => {
                        let at = Spot { parent: one.parent, name: one.name.clone() };
                        hands.push((path, Hand::File { at, foreign, seen: one.look }));
                    }
                    Read::Not(why) => self.report.unreadable.add(|| format!("{path}: {why}"), 0),
                    Read::InMotion if !self.looking.take_up => {
                        self.report.new_files.add(|| path, one.look.size);
                    }
                    Read::InMotion => {
                        self.report.not_any_more += 1;
                        self.report.again.push((one.parent, one.name.to_string()));
                    }
                }
            }
            let (paths, hands): (Vec<_>, Vec<_>) = hands.into_iter().unzip();
            let sizes: Vec<i64> = hands.iter().map(size_of_hand).collect();
            let spots: Vec<Option<Spot>> = hands.iter().map(spot_of_hand).collect();
            let told = self.take(hands).await?;
            for (((told, path), bytes), spot) in told.into_iter().zip(paths).zip(sizes).zip(spots) {
                match told {
                    Some(_) => self.report.new_files.add(|| path, bytes),
                    None => {
                        self.report.not_any_more += 1;
                        self.report.again.extend(spot.map(|spot| (spot.parent, spot.name.to_string())));
                    }
                }
            }
        }
        Ok(())
    }

    pub(super) async fn take_changes(&mut self, to_read: Vec<ToRead>) -> Result<()> {
        for part in to_read.chunks(LOT) {
            self.goes_on()?;
            let mut lying = Vec::new();
            for one in part {
                if let Some(parent) = one.row.parent
                    && let Ok(dir) = self.engine.shared.dirs.find(parent).await
                {
                    lying.push((one, Lying { dir, name: one.row.name().into(), look: one.look }));
                }
            }
            let (ones, lying): (Vec<_>, Vec<_>) = lying.into_iter().unzip();
            let mut hands = Vec::new();
            for (one, foreign) in ones.into_iter().zip(self.read(lying).await?) {
                let path = path_of(&self.engine.shared.view, one.row.node).await?;
                let (foreign, content) = match (foreign, one.row.content) {
                    (Read::As(foreign), Some(content)) => (foreign, content),
                    (Read::Not(why), _) => {
                        self.report.unreadable.add(|| format!("{path}: {why}"), 0);
                        continue;
                    }
                    _ => {
                        self.report.not_any_more += 1;
                        self.again(&one.row);
                        continue;
                    }
                };
                let same = foreign.hash == content.hash;
                if !same && one.untouched && one.look.id == content.object {
                    self.is_damaged(one, &path).await?;
                    continue;
                }
                if same && one.in_doubt && one.look.id == content.object {
                    hands.push((None, Hand::Sound { content: content.id, changed: one.look.changed }));
                    continue;
                }
                let hand = Hand::Changed { node: one.row.node, was: content.id, foreign, seen: one.look };
                hands.push((Some((path, same)), hand));
            }
            if !self.looking.take_up {
                for (said, hand) in hands {
                    self.say_changed(said, size_of_hand(&hand));
                }
                continue;
            }
            let (said, hands): (Vec<_>, Vec<_>) = hands.into_iter().unzip();
            let sizes: Vec<i64> = hands.iter().map(size_of_hand).collect();
            for ((told, said), bytes) in self.take(hands).await?.into_iter().zip(said).zip(sizes) {
                match told {
                    Some(_) => self.say_changed(said, bytes),
                    None => self.report.not_any_more += 1,
                }
            }
        }
        Ok(())
    }

    fn say_changed(&mut self, said: Option<(String, bool)>, bytes: i64) {
        match said {
            Some((path, true)) => self.report.touched.add(|| path, bytes),
            Some((path, false)) => self.report.changed.add(|| path, bytes),
            None => {}
        }
    }

    /// Hashes files where they lie, on two threads.
    async fn read(&mut self, files: Vec<Lying>) -> Result<Vec<Read>> {
        self.report.hashed += files.len() as u64;
        let half = files.len().div_ceil(2).max(1);
        let mut parts = Vec::new();
        let mut files = files.into_iter();
        loop {
            let part: Vec<Lying> = files.by_ref().take(half).collect();
            if part.is_empty() {
                break;
            }
            let shared = self.engine.shared.clone();
            parts.push(tokio::task::spawn_blocking(move || {
                let read = |file: Lying| match hash_as_seen(&shared.disk, &file.dir, &file.name, &file.look) {
                    Ok(Some(seen)) => Read::As(seen.foreign(&shared.staging)),
                    Ok(None) => Read::InMotion,
                    Err(e) if e.kind() == std::io::ErrorKind::NotFound => Read::InMotion,
                    Err(e) => Read::Not(e.to_string()),
                };
                part.into_iter().map(read).collect::<Vec<_>>()
            }));
        }
        let mut read = Vec::new();
        for part in parts {
            read.extend(part.await.map_err(|_| StoreError::Stopping)?);
        }
        Ok(read)
    }
}

fn spot_of_hand(hand: &Hand) -> Option<Spot> {
    match hand {
        Hand::File { at, .. } => Some(at.clone()),
        _ => None,
    }
}

fn size_of_hand(hand: &Hand) -> i64 {
    match hand {
        Hand::File { foreign, .. } | Hand::Changed { foreign, .. } => foreign.size,
        _ => 0,
    }
}
