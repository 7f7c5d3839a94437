//! Finding files and folders by their names.

use crate::catalogue::rows::{self, ROW_COLUMNS, sql};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row, Shelf};
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::collate::{fold, pieces};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Moment, NodeId};

/// The most files and folders of the past that one search looks at.
pub const MOST_LOOKED_AT: usize = 200_000;

/// Something found: it and the folders above it, itself first.
pub type FoundChain = Vec<Arc<Row>>;

impl Files {
    /// Files and folders whose names hold every word of a text, last changed first, where the
    /// actor may look: everywhere, or beneath one folder. The flag tells whether there is more.
    #[boxed]
    pub async fn find_names(
        &self,
        actor: &Actor,
        text: &str,
        within: Option<NodeId>,
        limit: usize,
    ) -> Result<(Vec<FoundChain>, bool)> {
        let words: Vec<String> = text.split_whitespace().map(fold).collect();
        if words.is_empty() {
            return Ok((Vec::new(), false));
        }
        let viewer = self.0.grants().viewer(actor);
        let shelves: Vec<i64> = match within {
            Some(node) => {
                let chain = self.chain(actor, node, Level::View).await?;
                chain.last().map(|top| top.shelf.0).into_iter().collect()
            }
            None => self.shelves_in_sight(actor).await?.iter().map(|s| s.id.0).collect(),
        };
        let pieces: Vec<String> = words.iter().flat_map(|w| pieces(w)).collect();
        // The longest piece leaves the fewest candidates; each is looked at again as a whole.
        let longest = pieces.iter().max_by_key(|p| p.len()).cloned().unwrap_or_default();
        let mut found: Vec<FoundChain> = Vec::new();
        let mut before = (i64::MAX, i64::MAX);
        loop {
            let text: String = sqlx::query_scalar(sql(format!(
                "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
                   (SELECT * FROM entries_now WHERE shelf IN (SELECT value FROM json_each(?)) AND parent IS NOT NULL
                      AND instr(sort_key, ?) > 0 AND (since, node) < (?, ?) ORDER BY since DESC, node DESC LIMIT 500) e
                 LEFT JOIN contents c ON c.id = e.content"
            )))
            .bind(serde_json::to_string(&shelves).unwrap_or_default())
            .bind(&longest)
            .bind(before.0)
            .bind(before.1)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
            let mut page = rows::parse_rows(&text)?;
            page.sort_by_key(|r| std::cmp::Reverse((r.since, r.node)));
            let Some(last) = page.last().map(|r| (r.since.0, r.node.0)) else { break };
            let full = page.len() == 500;
            for row in page {
                let name = fold(row.name());
                if !words.iter().all(|w| name.contains(w.as_str())) {
                    continue;
                }
                // A row beneath something removed is open, but not alive.
                let Some(chain) = self.0.shared.view.chain(row.node).await? else { continue };
                if self.0.grants().level_along(&viewer, &chain).is_none() {
                    continue;
                }
                if within.is_some_and(|top| !chain[1..].iter().any(|r| r.node == top)) {
                    continue;
                }
                if found.len() == limit {
                    return Ok((found, true));
                }
                found.push(chain);
            }
            if !full {
                break;
            }
            before = last;
        }
        Ok((found, false))
    }

    /// The same beneath a folder as it was at a moment: a snapshot is searched so. Reads all that was beneath, and
    /// refuses more than [`MOST_LOOKED_AT`] files and folders.
    #[boxed]
    pub async fn find_names_at(
        &self,
        actor: &Actor,
        text: &str,
        within: NodeId,
        at: Moment,
        limit: usize,
    ) -> Result<(Vec<Vec<Row>>, bool)> {
        let words: Vec<String> = text.split_whitespace().map(fold).collect();
        let above = self.0.history().check_past(actor, within, at).await?;
        let viewer = self.0.grants().viewer(actor);
        let Some((_, sight)) = self.0.history().sight(&viewer, within, at).await? else {
            return Ok((Vec::new(), false));
        };
        let mut found: Vec<Vec<Row>> = Vec::new();
        let mut looked = 0;
        let mut waiting = vec![(above, sight)];
        while let Some((chain, sight)) = waiting.pop() {
            for child in self.0.history().children_at(chain[0].node, at).await? {
                looked += 1;
                if looked > MOST_LOOKED_AT {
                    return Err(StoreError::TooMany(MOST_LOOKED_AT));
                }
                let its = self.0.history().sight_in(&viewer, &sight, &child).await?;
                let name = fold(child.name());
                let matches = !words.is_empty() && words.iter().all(|w| name.contains(w.as_str()));
                if !its.sees() || !(matches || child.is_folder()) {
                    continue;
                }
                let folder = child.is_folder();
                let mut way = vec![child];
                way.extend(chain.iter().cloned());
                if matches {
                    found.push(way.clone());
                }
                if folder {
                    waiting.push((way, its));
                }
            }
        }
        found.sort_by_key(|way| std::cmp::Reverse((way[0].since, way[0].node)));
        let more = found.len() > limit;
        found.truncate(limit);
        Ok((found, more))
    }

    /// The shelves on which there is something for the actor to see: those that may be entered, and
    /// those of what was given.
    #[boxed]
    pub async fn shelves_in_sight(&self, actor: &Actor) -> Result<Vec<Arc<Shelf>>> {
        let mut found: Vec<Arc<Shelf>> = self.shelves_for(actor).into_iter().map(|(s, _)| s).collect();
        for (chain, _) in self.0.grants().given_nodes(&self.0.grants().viewer(actor)).await? {
            let shelf = chain.last().and_then(|top| self.0.shared.view.shelf(top.shelf));
            found.extend(shelf.filter(|s| found.iter().all(|f| f.id != s.id)));
        }
        Ok(found)
    }

    /// Files that came or changed on a shelf after a number and whose names end in one of these
    /// (lower case), oldest first, at most 500; and the number to ask from next.
    #[boxed]
    pub async fn files_since(
        &self,
        shelf: &Shelf,
        since: Moment,
        endings: &[&str],
    ) -> Result<(Vec<Row>, Option<Moment>)> {
        let text: String = sqlx::query_scalar(sql(format!(
            "SELECT json_group_array(json_array({ROW_COLUMNS})) FROM
               (SELECT * FROM entries_now WHERE shelf = ? AND since > ? AND kind = 1 AND EXISTS
                  (SELECT 1 FROM json_each(?) j WHERE lower(substr(sort_key, -length(j.value))) = j.value)
                ORDER BY since LIMIT 500) e
             LEFT JOIN contents c ON c.id = e.content"
        )))
        .bind(shelf.id.0)
        .bind(since.0)
        .bind(serde_json::to_string(endings).unwrap_or_default())
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let found = rows::parse_rows(&text)?;
        let next = found.last().filter(|_| found.len() == 500).map(|row| row.since);
        Ok((found, next))
    }

    /// The files changed last in all that the actor may look at, last first.
    #[boxed]
    pub async fn recent(&self, actor: &Actor, limit: usize) -> Result<Vec<FoundChain>> {
        let mut all = Vec::new();
        for shelf in self.shelves_in_sight(actor).await? {
            all.extend(self.latest(actor, &shelf, limit).await?);
        }
        all.sort_by_key(|r| std::cmp::Reverse(r.since));
        all.truncate(limit);
        let mut found = Vec::new();
        for row in all {
            found.extend(self.0.shared.view.chain(row.node).await?);
        }
        Ok(found)
    }
}
