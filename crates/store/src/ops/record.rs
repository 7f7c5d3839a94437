//! Rows of the record, findings, and changes of the catalogue beside the timeline.

use crate::fs::error::Result;
use crate::fs::model::Actor;
use crate::txn::operation::{Around, Operation};
use crate::txn::write_txn::WriteTxn;
use sqlx::SqliteConnection;
use std::pin::Pin;
use yellow_attic_core::NodeId;

/// Writes a row of the record for something that changes no file.
pub(crate) struct Note {
    pub actor: Actor,
    pub action: &'static str,
    pub node: Option<NodeId>,
    pub what: String,
    pub detail: String,
}

impl Operation for Note {
    type Told = ();

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        txn.add_record(&self.actor, self.action, self.node, &self.what, &self.detail);
        Ok(())
    }
}

/// Something that was found on the disk, for the administrator.
pub(crate) struct Finding {
    pub kind: &'static str,
    pub node: Option<NodeId>,
    pub detail: String,
}

impl Operation for Finding {
    type Told = ();

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        txn.add_finding(self.kind, self.node, &self.detail);
        Ok(())
    }
}

/// What is done to the catalogue.
type Change = Box<
    dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send,
>;

/// Changes the catalogue beside the timeline.
pub(crate) struct ChangeCatalogue {
    actor: Actor,
    action: &'static str,
    what: String,
    /// Whether it touches who may do what.
    rights: bool,
    change: Option<Change>,
}

impl ChangeCatalogue {
    /// One that leaves a row of the record for each line of `what`; none without an action.
    pub fn new(
        actor: Actor,
        action: &'static str,
        what: String,
        rights: bool,
        change: impl for<'c> FnOnce(
            &'c mut SqliteConnection,
        ) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send
        + 'static,
    ) -> ChangeCatalogue {
        ChangeCatalogue { actor, action, what, rights, change: Some(Box::new(change)) }
    }

    /// One of the service's own, which leaves no row.
    pub fn quiet(
        change: impl for<'c> FnOnce(
            &'c mut SqliteConnection,
        ) -> Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send
        + 'static,
    ) -> ChangeCatalogue {
        ChangeCatalogue::new(Actor::service(), "", String::new(), false, change)
    }
}

impl Operation for ChangeCatalogue {
    type Told = ();

    fn writes_by_itself(&self) -> bool {
        true
    }

    fn within_savepoint(&self) -> bool {
        true
    }

    fn precedes_rights(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        if let Some(change) = self.change.take() {
            change(&mut txn.conn).await?;
        }
        if !self.action.is_empty() {
            // One row for each of many.
            self.what.split('\n').for_each(|what| txn.add_record(&self.actor, self.action, None, what, ""));
        }
        txn.access_behind |= self.rights;
        Ok(())
    }
}

/// Bytes of an upload in parts are on the disk up to here: noted once they are.
pub(crate) struct NoteSynced {
    pub upload: String,
    pub file: std::fs::File,
    pub size: u64,
}

impl Operation for NoteSynced {
    type Told = ();

    fn bring(
        &mut self,
        _disk: &std::sync::Arc<crate::fs::disk::Disk>,
        _staging: &std::sync::Arc<crate::fs::staging::Staging>,
    ) -> Result<crate::txn::operation::Brought> {
        Ok(crate::txn::operation::Brought::Something)
    }

    fn start_flush(&self) {
        crate::fs::syscalls::start_writeback(std::os::fd::AsRawFd::as_raw_fd(&self.file), 0, 0);
    }

    fn sync(&self, disk: &crate::fs::disk::Disk) -> std::io::Result<()> {
        disk.sync(&self.file)
    }

    fn write_back(&self, disk: &crate::fs::disk::Disk) -> std::io::Result<()> {
        disk.write_back(&self.file)
    }

    fn arriving(&self) -> usize {
        1
    }

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        // Nobody is answered for bytes whose row is gone: the upload ended meanwhile.
        sqlx::query("UPDATE uploads SET synced = max(synced, ?) WHERE id = ?")
            .bind(self.size as i64)
            .bind(&self.upload)
            .execute(&mut txn.conn)
            .await?;
        Ok(())
    }
}
