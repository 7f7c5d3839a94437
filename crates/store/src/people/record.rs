//! Reading the record of everything done, and proving that nobody changed it.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::fs::record_key::Head;
use crate::ops::record::Note;
use crate::people::People;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::{AccountId, NodeId, record};

/// What a check of the record found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordCheck {
    /// Rows looked at.
    pub rows: i64,
    /// The first row at which the chain does not hold, and why.
    pub broken: Option<(i64, &'static str)>,
    /// What the first key proves, if one was given: from which row on, and up to which. Who broke in later cannot have
    /// written these rows.
    pub proved: Option<(i64, i64)>,
    /// Ends of days that were looked at, and the row of the last one.
    pub heads: usize,
    pub last_head: Option<i64>,
}

impl RecordCheck {
    fn broken_at(&self, row: i64, why: &'static str) -> RecordCheck {
        RecordCheck { rows: row, broken: Some((row, why)), ..self.clone() }
    }
}

/// By what a record is checked, beside its own chain.
#[derive(Clone, Debug, Default)]
pub struct Anchors {
    /// The first key, as it was told when it was made.
    pub key: Option<String>,
    /// Ends of days that were kept, here or elsewhere.
    pub heads: Vec<Head>,
}

/// One row of the record.
#[derive(Clone, Debug)]
pub struct Recorded {
    /// Its number.
    pub id: i64,
    /// When, in milliseconds.
    pub at: i64,
    /// What was done; then who, the device, where from, what, detail.
    pub fields: Vec<String>,
}

type RecordRow = (
    i64,
    i64,
    Option<String>,
    Option<Vec<u8>>,
    Vec<u8>,
    Vec<u8>,
    i64,
    String,
    Option<i64>,
    Option<i64>,
    Option<i64>,
    Option<Vec<u8>>,
);

/// The keys after a first one, step by step.
struct Keys {
    id: String,
    step: i64,
    key: record::Digest,
}

impl Keys {
    /// The key of a step; none if that is before where it stands.
    fn at(&mut self, step: i64) -> Option<record::Digest> {
        if step < self.step || step - self.step > 1_000_000 {
            return None;
        }
        while self.step < step {
            self.key = record::next_key(&self.key);
            self.step += 1;
        }
        Some(self.key)
    }
}

/// Follows the chain of the record in a catalogue.
pub(crate) async fn follow_chain(pool: &sqlx::SqlitePool, anchors: &Anchors) -> Result<RecordCheck> {
    // The end first: a service at work goes on writing while the rows before it are followed.
    let (head, head_link): (i64, Vec<u8>) =
        sqlx::query_as("SELECT record, link FROM heads").fetch_one(pool).await?;
    let mut keys = match &anchors.key {
        Some(text) => {
            let (id, key) = crate::fs::record_key::key_id(text)
                .ok_or_else(|| StoreError::BadInput("The record's key has 64 hexadecimal digits.".into()))?;
            Some(Keys { id, step: 0, key })
        }
        None => None,
    };
    let mut heads: Vec<&Head> = anchors.heads.iter().collect();
    heads.sort_by_key(|h| h.row);
    let mut heads = heads.into_iter().peekable();
    let mut before = record::FIRST;
    let mut found = RecordCheck { rows: 0, broken: None, proved: None, heads: 0, last_head: None };
    // Rows whose fields are gone, and those that a row of an erasure names.
    let (mut blank, mut erased) = (Vec::new(), std::collections::HashSet::new());
    // Whether the key that was given is the one at work.
    let mut ours = false;
    loop {
        let page: Vec<RecordRow> = sqlx::query_as(
            "SELECT id, at, fields, salt, digest, link, version, action, account, node, key, mac
             FROM record WHERE id > ? AND id <= ? ORDER BY id LIMIT 1000",
        )
        .bind(found.rows)
        .bind(head)
        .fetch_all(pool)
        .await?;
        if page.is_empty() {
            break;
        }
        for (id, at, fields, salt, digest, link, version, action, account, node, step, mac) in page {
            if id != found.rows + 1 {
                return Ok(RecordCheck { broken: Some((found.rows + 1, "a row is missing")), ..found });
            }
            let list: Vec<String> =
                fields.as_deref().and_then(|f| serde_json::from_str(f).ok()).unwrap_or_default();
            let list: Vec<&str> = list.iter().map(String::as_str).collect();
            match (&fields, &salt) {
                (Some(_), Some(salt)) => {
                    if record::digest(salt, &list)[..] != digest[..] {
                        return Ok(found.broken_at(id, "the fields were changed"));
                    }
                }
                _ => blank.push(id),
            }
            let Ok(digest) = record::Digest::try_from(digest) else {
                return Ok(found.broken_at(id, "the digest was changed"));
            };
            before = match version {
                1 => record::link(&before, id, at, &digest),
                _ => {
                    let covered = record::Covered { number: id, at_ms: at, action: &action, account, node };
                    record::link_all(&before, covered, &digest)
                }
            };
            if before[..] != link[..] {
                return Ok(found.broken_at(id, "the link does not follow from the rows before"));
            }
            if let (2.., Some("record key begun"), Some(id_told)) =
                (version, list.first().copied(), list.get(4))
            {
                ours = keys.as_ref().is_some_and(|k| k.id == *id_told);
            }
            if let (2.., Some("record erased"), Some(named)) = (version, list.first().copied(), list.get(5)) {
                erased.extend(named.split(',').filter_map(|n| n.trim().parse::<i64>().ok()));
            }
            if ours && let Some(keys) = &mut keys {
                let right = step.and_then(|step| keys.at(step)).map(|key| record::mac(&key, &before));
                if right.is_none() || mac.as_deref() != right.as_ref().map(|m| &m[..]) {
                    return Ok(found.broken_at(id, "its mark is not by the key: somebody wrote it anew"));
                }
                found.proved = Some((found.proved.map_or(id, |p| p.0), id));
            }
            while let Some(one) = heads.next_if(|h| h.row <= id) {
                if one.row == id {
                    let marked = match &keys {
                        Some(k) if k.id == one.key => {
                            let mut k = Keys { id: k.id.clone(), step: 0, key: first_of(anchors) };
                            k.at(one.index)
                                .is_some_and(|key| record::mac_of_head(&key, id, &one.link) == one.mac)
                        }
                        _ => true,
                    };
                    if one.link != before || !marked {
                        return Ok(found.broken_at(id, "the end of a day that was kept says something else"));
                    }
                    (found.heads, found.last_head) = (found.heads + 1, Some(id));
                }
            }
            found.rows = id;
        }
    }
    if head != found.rows || head_link[..] != before[..] || heads.peek().is_some() {
        return Ok(RecordCheck { broken: Some((found.rows + 1, "the last rows are missing")), ..found });
    }
    if let Some(id) = blank.into_iter().find(|id| !erased.contains(id)) {
        return Ok(RecordCheck {
            broken: Some((id, "its fields are gone, and no erasure names it")),
            ..found
        });
    }
    Ok(found)
}

fn first_of(anchors: &Anchors) -> record::Digest {
    anchors.key.as_deref().and_then(crate::fs::record_key::key_id).map_or([0; 32], |(_, key)| key)
}

impl People {
    /// Writes a row of the record for something that changes no file.
    #[boxed]
    pub async fn note(
        &self,
        actor: &Actor,
        action: &'static str,
        node: Option<NodeId>,
        what: &str,
        detail: &str,
    ) -> Result<()> {
        let (actor, what, detail) = (actor.clone(), what.to_string(), detail.to_string());
        self.0.ask(Note { actor, action, node, what, detail }).await
    }

    /// Follows the chain from the first row to the last.
    #[boxed]
    pub async fn check_record(&self) -> Result<RecordCheck> {
        follow_chain(&self.0.shared.view.pool, &Anchors::default()).await
    }

    /// The newest rows of the record before a number, newest first.
    #[boxed]
    pub async fn recorded(&self, before: Option<i64>, limit: usize) -> Result<Vec<Recorded>> {
        let rows: Vec<Stored> =
            sqlx::query_as("SELECT id, at, fields FROM record WHERE id < ? ORDER BY id DESC LIMIT ?")
                .bind(before.unwrap_or(i64::MAX))
                .bind(limit.clamp(1, 1000) as i64)
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(recorded).collect())
    }

    /// What an account did last, newest first.
    #[boxed]
    pub async fn recorded_of(&self, account: AccountId, limit: usize) -> Result<Vec<Recorded>> {
        let rows: Vec<Stored> =
            sqlx::query_as("SELECT id, at, fields FROM record WHERE account = ? ORDER BY id DESC LIMIT ?")
                .bind(account.0)
                .bind(limit.clamp(1, 1000) as i64)
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(recorded).collect())
    }
}

type Stored = (i64, i64, Option<String>);

fn recorded((id, at, fields): Stored) -> Recorded {
    let fields = fields.and_then(|f| serde_json::from_str(&f).ok()).unwrap_or_default();
    Recorded { id, at, fields }
}
