//! Reading the record of everything done, and proving that nobody changed it.

use crate::engine::Engine;
use crate::error::Result;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::record;

/// What a check of the record found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordCheck {
    /// Rows looked at.
    pub rows: i64,
    /// The first row at which the chain does not hold, and why.
    pub broken: Option<(i64, &'static str)>,
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

type RecordRow = (i64, i64, Option<String>, Option<Vec<u8>>, Vec<u8>, Vec<u8>);

/// Follows the chain of the record in a catalogue.
pub(crate) async fn follow_chain(pool: &sqlx::SqlitePool) -> Result<RecordCheck> {
    // The end first: a service at work goes on writing while the rows before it are followed.
    let (head, head_link): (i64, Vec<u8>) =
        sqlx::query_as("SELECT record, link FROM heads").fetch_one(pool).await?;
    let mut before = record::FIRST;
    let mut rows = 0i64;
    let broken = |id, why| RecordCheck { rows: id, broken: Some((id, why)) };
    loop {
        let page: Vec<RecordRow> = sqlx::query_as(
            "SELECT id, at, fields, salt, digest, link FROM record WHERE id > ? AND id <= ? ORDER BY id LIMIT 1000",
        )
        .bind(rows)
        .bind(head)
        .fetch_all(pool)
        .await?;
        if page.is_empty() {
            break;
        }
        for (id, at, fields, salt, digest, link) in page {
            if id != rows + 1 {
                return Ok(broken(rows + 1, "a row is missing"));
            }
            if let (Some(fields), Some(salt)) = (&fields, &salt) {
                let list: Vec<String> = serde_json::from_str(fields).unwrap_or_default();
                let list: Vec<&str> = list.iter().map(String::as_str).collect();
                if record::digest(salt, &list)[..] != digest[..] {
                    return Ok(broken(id, "the fields were changed"));
                }
            }
            let digest: record::Digest = digest.try_into().unwrap_or_default();
            before = record::link(&before, id, at, &digest);
            if before[..] != link[..] {
                return Ok(broken(id, "the link does not follow from the rows before"));
            }
            rows = id;
        }
    }
    if head != rows || head_link[..] != before[..] {
        return Ok(broken(rows + 1, "the last rows are missing"));
    }
    Ok(RecordCheck { rows, broken: None })
}

impl Engine {
    /// Follows the chain from the first row to the last.
    #[boxed]
    pub async fn check_record(&self) -> Result<RecordCheck> {
        follow_chain(&self.shared.view.pool).await
    }

    /// The newest rows of the record before a number, newest first.
    #[boxed]
    pub async fn recorded(&self, before: Option<i64>, limit: usize) -> Result<Vec<Recorded>> {
        let rows: Vec<(i64, i64, Option<String>)> =
            sqlx::query_as("SELECT id, at, fields FROM record WHERE id < ? ORDER BY id DESC LIMIT ?")
                .bind(before.unwrap_or(i64::MAX))
                .bind(limit.clamp(1, 1000) as i64)
                .fetch_all(&self.shared.view.pool)
                .await?;
        Ok(rows
            .into_iter()
            .map(|(id, at, fields)| Recorded {
                id,
                at,
                fields: fields.and_then(|f| serde_json::from_str(&f).ok()).unwrap_or_default(),
            })
            .collect())
    }
}
