//! Folders that become shelves, and shelves that become folders.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Shelf};
use crate::ops::convert::{Convert, Converting};
use crate::ops::make::MakeShelf;
use crate::ops::{NewShelf, Outcome};
use crate::timeline::Space;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{AccountId, Name, NodeId, ShelfId};

impl Space {
    /// Makes a shelf.
    #[boxed]
    pub async fn make_shelf(&self, actor: &Actor, new: NewShelf) -> Result<Arc<Shelf>> {
        let actor = actor.clone();
        let done = self.0.ask(MakeShelf::new(actor, new)).await?;
        let id = done.row.map(|r| r.shelf).unwrap_or_default();
        self.0.shared.view.shelf(id).ok_or_else(|| StoreError::NotFound("The shelf".into()))
    }

    /// A folder becomes a shared shelf, without copying. Its owners are those of the shelf it was on;
    /// whoever could enter by grants further up can enter by the same.
    #[boxed]
    pub async fn raise_folder(&self, actor: &Actor, node: NodeId, name: Name) -> Result<Arc<Shelf>> {
        let before = self.0.files().chain(actor, node, Level::Manage).await?;
        let owners = before.last().map(|top| self.0.shared.view.access().owners(top.shelf).to_vec());
        let done = self.convert(actor, Converting::Raise { node, name }).await?;
        let id = done.row.map(|r| r.shelf).unwrap_or_default();
        let gone = || StoreError::NotFound("The shelf".into());
        let shelf = self.0.shared.view.shelf(id).ok_or_else(gone)?;
        if let Some(owners) = owners.filter(|o| o.len() > 1) {
            self.change_shelf(actor, &shelf, None, None, Some(owners)).await?;
        }
        Ok(shelf)
    }

    /// A shelf becomes a folder, without copying. Its owners may manage the folder.
    #[boxed]
    pub async fn lower_shelf(
        &self,
        actor: &Actor,
        shelf: ShelfId,
        parent: NodeId,
        name: Name,
    ) -> Result<Outcome> {
        self.convert(actor, Converting::Lower { shelf, parent, name }).await
    }

    /// A shelf goes, with all that is on it. What was there stays in the past.
    pub(crate) async fn drop_shelf(&self, actor: &Actor, shelf: ShelfId) -> Result<Outcome> {
        self.convert(actor, Converting::Drop { shelf }).await
    }

    async fn convert(&self, actor: &Actor, change: Converting) -> Result<Outcome> {
        let actor = actor.clone();
        self.0.ask(Convert { actor, change }).await
    }

    /// Says what a shared shelf is for, who owns it, and how much it may hold. What is `None` stays.
    #[boxed]
    pub async fn change_shelf(
        &self,
        actor: &Actor,
        shelf: &Shelf,
        note: Option<String>,
        quota: Option<Option<u64>>,
        owners: Option<Vec<AccountId>>,
    ) -> Result<()> {
        if owners.as_ref().is_some_and(Vec::is_empty) {
            return Err(StoreError::BadInput("A shelf has at least one owner.".into()));
        }
        let id = shelf.id.0;
        self.0.people().change_rights(actor, "shelf changed", &shelf.name, move |conn| {
            Box::pin(async move {
                if let Some(note) = note {
                    sqlx::query("UPDATE shelves SET note = ? WHERE id = ?")
                        .bind(note.trim())
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(quota) = quota {
                    sqlx::query("UPDATE shelves SET quota = ? WHERE id = ?")
                        .bind(quota.map(|q| i64::try_from(q).unwrap_or(i64::MAX)))
                        .bind(id)
                        .execute(&mut *conn)
                        .await?;
                }
                if let Some(owners) = owners {
                    sqlx::query("DELETE FROM shelf_owners WHERE shelf = ?").bind(id).execute(&mut *conn).await?;
                    sqlx::query("INSERT OR IGNORE INTO shelf_owners (shelf, account) SELECT ?, value FROM json_each(?)")
                        .bind(id)
                        .bind(serde_json::to_string(&owners).unwrap_or_default())
                        .execute(conn)
                        .await?;
                }
                Ok(())
            })
        })
        .await
    }

    /// What shared shelves are for, where that is said.
    #[boxed]
    pub async fn shelf_notes(&self) -> Result<std::collections::HashMap<ShelfId, String>> {
        let rows: Vec<(i64, String)> =
            sqlx::query_as("SELECT id, note FROM shelves WHERE note <> '' AND ended_at IS NULL")
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        Ok(rows.into_iter().map(|(id, note)| (ShelfId(id), note)).collect())
    }

    /// The owners of a shelf.
    pub fn owners_of(&self, shelf: &Shelf) -> Vec<AccountId> {
        self.0.shared.view.access().owners(shelf.id).to_vec()
    }
}
