//! Connected computers.

use crate::{Client, Result, api};
use reqwest::Method;

impl Client {
    /// Connects this computer; the answer holds its token.
    pub async fn connect(&self, body: &api::NewDevice) -> Result<api::DeviceToken> {
        self.post("/devices", body).await
    }

    /// Asks for this computer to be connected: what to show, and what to come back with.
    pub async fn begin_connection(&self, body: &api::NewConnection) -> Result<api::Connection> {
        self.post("/connections", body).await
    }

    /// Asks whether somebody has answered: the token; `authorization_pending` while nobody has.
    pub async fn collect_connection(&self, device_code: &str) -> Result<api::DeviceToken> {
        self.post("/connections/token", &api::Collect { device_code: device_code.into() }).await
    }

    /// Which computer waits under a code.
    pub async fn look_at_connection(&self, code: &str) -> Result<api::AskedConnection> {
        self.post("/connections/look", &api::TypedCode { code: code.into() }).await
    }

    /// Answers the computer that waits under a code.
    pub async fn answer_connection(&self, answer: &api::ConnectionAnswer) -> Result<()> {
        let call = self.call(Method::POST, "/connections/answer").json(answer);
        Self::send(call).await.map(drop)
    }

    /// Tells what this computer says of itself.
    pub async fn report(&self, report: &api::DeviceReport) -> Result<()> {
        Self::send(self.call(Method::PUT, "/devices/this").json(report)).await.map(drop)
    }

    /// Disconnects this computer.
    pub async fn disconnect(&self) -> Result<()> {
        Self::send(self.call(Method::DELETE, "/devices/this")).await.map(|_| ())
    }

    /// The computers that are connected.
    pub async fn devices(&self) -> Result<api::Devices> {
        self.get("/devices", &()).await
    }

    /// Disconnects one of the caller's computers.
    pub async fn end_device(&self, device: i64) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/devices/{device}"))).await.map(drop)
    }
}
