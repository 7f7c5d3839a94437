//! The key with which rows of the record are marked. It moves forward one way each day, and the one before is wiped:
//! who breaks in today cannot mark rows as of yesterday. The first key is told once, at `init`, and kept by nobody here.
//!
//! `<data>/record.key`: the present key, rewritten in place. `<data>/record.heads`: how far the record was at the end of
//! each day, a line for each, marked by that day's key.

use crate::fs::disk::{hex, unhex};
use crate::fs::error::{Result, StoreError};
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use yellow_attic_core::record::{self, Digest};

const DAY_MS: i64 = 86_400_000;

/// The present key.
pub(crate) struct RecordKey {
    data: PathBuf,
    file: File,
    /// Which key it is: a mark of the first one.
    pub id: String,
    /// How many days it has moved forward.
    pub index: i64,
    /// The day since 1970 that it is for.
    day: i64,
    key: Digest,
    /// The first key, for whoever makes it.
    first: Option<Digest>,
}

impl RecordKey {
    /// Reads the present key; makes one if there is none.
    pub fn open(data: &Path, now_ms: i64) -> Result<RecordKey> {
        let path = data.join("record.key");
        let failed = |e: &std::io::Error| StoreError::io("reading record.key", e);
        let mut options = OpenOptions::new();
        let file = options.read(true).write(true).create(true).truncate(false).mode(0o600).open(&path);
        let file = file.map_err(|e| failed(&e))?;
        let text = std::fs::read_to_string(&path).map_err(|e| failed(&e))?;
        if let Some((id, index, day, key)) = parse(&text) {
            return Ok(RecordKey { data: data.into(), file, id, index, day, key, first: None });
        }
        let mut key = [0; 32];
        getrandom::fill(&mut key).map_err(|e| StoreError::BadInput(e.to_string()))?;
        let id = id_of(&key);
        let data = data.to_path_buf();
        let mut made = RecordKey { data, file, id, index: 0, day: now_ms / DAY_MS, key, first: Some(key) };
        made.write()?;
        File::open(&made.data).and_then(|d| d.sync_all()).map_err(|e| failed(&e))?;
        Ok(made)
    }

    /// The first key, if it was made just now: told once.
    pub fn first(&self) -> Option<String> {
        self.first.as_ref().map(|key| hex(key))
    }

    /// Over the same bytes of the same file: nothing of the key before is left in it.
    fn write(&mut self) -> Result<()> {
        let text = format!("{} {:010} {:010} {}\n", self.id, self.index, self.day, hex(&self.key));
        let failed = |e: std::io::Error| StoreError::io("writing record.key", &e);
        self.file.write_all_at(text.as_bytes(), 0).map_err(failed)?;
        self.file.sync_data().map_err(failed)
    }

    /// Marks a row, with which step of the key. `head`: the last row before it, and its link.
    pub fn mark(&mut self, now_ms: i64, head: (i64, &Digest), link: &Digest) -> (i64, Digest) {
        let day = now_ms / DAY_MS;
        if day > self.day
            && let Err(error) = self.move_on(day, head)
        {
            // Marked by the key of before: the row is there all the same, and the next one tries again.
            tracing::error!(%error, "the record's key could not be moved forward");
        }
        (self.index, record::mac(&self.key, link))
    }

    fn move_on(&mut self, day: i64, (row, link): (i64, &Digest)) -> Result<()> {
        let failed = |e: std::io::Error| StoreError::io("writing record.heads", &e);
        let line = format!(
            "{} {} {} {row} {} {}\n",
            self.id,
            self.index,
            self.day,
            hex(link),
            hex(&record::mac_of_head(&self.key, row, link))
        );
        let mut options = OpenOptions::new();
        let mut heads = options
            .append(true)
            .create(true)
            .mode(0o600)
            .open(self.data.join("record.heads"))
            .map_err(failed)?;
        heads.write_all(line.as_bytes()).and_then(|()| heads.sync_data()).map_err(failed)?;
        for _ in self.day..day {
            self.key = record::next_key(&self.key);
            self.index += 1;
        }
        self.day = day;
        self.write()
    }
}

fn id_of(key: &Digest) -> String {
    hex(&record::mac(key, &record::FIRST))[..16].to_string()
}

fn parse(text: &str) -> Option<(String, i64, i64, Digest)> {
    let mut words = text.split_whitespace();
    let id = words.next()?.to_string();
    let (index, day) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
    Some((id, index, day, unhex(words.next()?)?))
}

/// How far the record was at the end of a day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    /// Which key marked it.
    pub key: String,
    /// How many days that had moved forward.
    pub index: i64,
    /// The day since 1970.
    pub day: i64,
    /// The last row.
    pub row: i64,
    /// Its link.
    pub link: Digest,
    /// The mark.
    pub mac: Digest,
}

/// Reads the heads of days, of this data folder or kept elsewhere. Lines that cannot be read are left out, and counted.
pub fn heads(text: &str) -> (Vec<Head>, usize) {
    let read = |line: &str| {
        let mut words = line.split_whitespace();
        let mut next = || words.next();
        Some(Head {
            key: next()?.to_string(),
            index: next()?.parse().ok()?,
            day: next()?.parse().ok()?,
            row: next()?.parse().ok()?,
            link: unhex(next()?)?,
            mac: unhex(next()?)?,
        })
    };
    let lines: Vec<&str> = text.lines().filter(|l| !l.trim().is_empty()).collect();
    let heads: Vec<Head> = lines.iter().filter_map(|l| read(l)).collect();
    let bad = lines.len() - heads.len();
    (heads, bad)
}

/// The mark by which a key is known.
pub fn key_id(first: &str) -> Option<(String, Digest)> {
    let key = unhex(first.trim())?;
    Some((id_of(&key), key))
}
