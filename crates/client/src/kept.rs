//! Trash, versions, snapshots, rollbacks, alarms, quotas, and where the space went.

use crate::{Client, Result, api, encode};
use reqwest::Method;

impl Client {
    /// What was removed from a folder and from beneath it.
    pub async fn trash(&self, node: i64, query: &api::PageQuery) -> Result<api::Trash> {
        self.get(&format!("/nodes/{node}/trash"), query).await
    }

    /// Lets go for good, or tells what would go.
    pub async fn let_go(&self, what: &api::LetGo) -> Result<api::Going> {
        self.post("/past/let-go", what).await
    }

    /// Names a version; empty takes the name away.
    pub async fn name_version(&self, node: i64, moment: &str, label: &str) -> Result<()> {
        let body = api::VersionName { label: label.into() };
        let path = format!("/nodes/{node}/versions/{}", encode(moment));
        Self::send(self.call(Method::PUT, &path).json(&body)).await.map(|_| ())
    }

    /// Two states of a text, line by line.
    pub async fn compare(&self, node: i64, query: &api::CompareQuery) -> Result<api::Comparison> {
        self.get(&format!("/nodes/{node}/comparison"), query).await
    }

    /// The snapshots of a shelf, by the folder at its top.
    pub async fn snapshots(&self, root: i64) -> Result<api::Snapshots> {
        self.get(&format!("/shelves/{root}/snapshots"), &()).await
    }

    /// Takes a snapshot.
    pub async fn take_snapshot(&self, root: i64, new: &api::SnapshotChange) -> Result<api::Snapshot> {
        self.post(&format!("/shelves/{root}/snapshots"), new).await
    }

    /// Changes a snapshot.
    pub async fn change_snapshot(&self, id: i64, change: &api::SnapshotChange) -> Result<api::Snapshot> {
        Self::read(self.call(Method::PATCH, &format!("/snapshots/{id}")).json(change)).await
    }

    /// Ends a snapshot.
    pub async fn end_snapshot(&self, id: i64) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/snapshots/{id}"))).await.map(|_| ())
    }

    /// What rolling a folder back would do.
    pub async fn look_at_rollback(&self, node: i64, to: &str, keep: &[i64]) -> Result<api::RollbackPreview> {
        let keep = keep.iter().map(i64::to_string).collect::<Vec<_>>().join(",");
        let keep = (!keep.is_empty()).then_some(keep);
        self.get(&format!("/nodes/{node}/rollback"), &api::RollbackQuery { to: to.into(), keep }).await
    }

    /// Begins to roll a folder back.
    pub async fn begin_rollback(&self, node: i64, new: &api::NewRollback) -> Result<api::Rollback> {
        self.post(&format!("/nodes/{node}/rollback"), new).await
    }

    /// The rollbacks of a shelf.
    pub async fn rollbacks(&self, root: i64) -> Result<api::Rollbacks> {
        self.get(&format!("/shelves/{root}/rollbacks"), &()).await
    }

    /// How far a rollback is.
    pub async fn rollback(&self, id: i64) -> Result<api::Rollback> {
        self.get(&format!("/rollbacks/{id}"), &()).await
    }

    /// Stops a rollback, or takes it back.
    pub async fn change_rollback(&self, id: i64, act: &str) -> Result<api::Rollback> {
        self.post(&format!("/rollbacks/{id}/{act}"), &()).await
    }

    /// Alarms.
    pub async fn alarms(&self) -> Result<api::Alarms> {
        self.get("/alarms", &()).await
    }

    /// Settles an alarm.
    pub async fn settle_alarm(&self, id: i64) -> Result<()> {
        Self::send(self.call(Method::POST, &format!("/alarms/{id}/settle"))).await.map(|_| ())
    }

    /// Where the space went.
    pub async fn space(&self) -> Result<api::Space> {
        self.get("/space", &()).await
    }

    /// What a folder and its children hold.
    pub async fn folder_space(&self, node: i64) -> Result<api::FolderSpace> {
        self.get(&format!("/nodes/{node}/space"), &()).await
    }

    /// All lines.
    pub async fn quotas(&self) -> Result<api::Quotas> {
        self.get("/quotas", &()).await
    }

    /// Sets lines.
    pub async fn set_quota(&self, change: &api::QuotaChange) -> Result<api::Quotas> {
        Self::read(self.call(Method::PUT, "/quotas").json(change)).await
    }
}
