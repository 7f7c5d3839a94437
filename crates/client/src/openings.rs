//! Links and intakes, and all that was given out.

use crate::{Client, Result, encode_query};
use reqwest::Method;
use yellow_attic_api as api;

impl Client {
    /// Links and intakes: one's own, or those of a node.
    pub async fn openings(&self, query: &api::OpeningsQuery) -> Result<api::Openings> {
        self.get("/openings", query).await
    }

    /// Makes a link or an intake.
    pub async fn make_opening(&self, new: &api::NewOpening) -> Result<api::Opening> {
        self.post("/openings", new).await
    }

    /// A link or an intake.
    pub async fn opening(&self, id: i64) -> Result<api::Opening> {
        self.get(&format!("/openings/{id}"), &()).await
    }

    /// Changes one.
    pub async fn change_opening(&self, id: i64, set: &api::OpeningSet) -> Result<api::Opening> {
        Self::read(self.call(Method::PATCH, &format!("/openings/{id}")).json(set)).await
    }

    /// Sends its address by mail.
    pub async fn mail_opening(&self, id: i64, mail: &api::OpeningMail) -> Result<()> {
        Self::send(self.call(Method::POST, &format!("/openings/{id}/mail")).json(mail)).await.map(drop)
    }

    /// What was handed in at an intake.
    pub async fn deliveries(&self, id: i64) -> Result<api::Deliveries> {
        self.get(&format!("/openings/{id}/deliveries"), &()).await
    }

    /// What was given out, a page at a time.
    pub async fn given_out(&self, query: &api::GivenQuery) -> Result<api::GivenOut> {
        self.get("/given", query).await
    }

    /// The same as a table.
    pub async fn given_table(&self, query: &api::GivenQuery) -> Result<String> {
        let query = api::GivenQuery { format: Some("csv".into()), ..query.clone() };
        let answer = Self::send(self.call(Method::GET, &format!("/given{}", encode_query(&query)))).await?;
        answer.text().await.map_err(|e| crate::line(&e))
    }

    /// Changes many at once.
    pub async fn change_given(&self, change: &api::GivenChange) -> Result<api::GivenChanged> {
        self.post("/given/change", change).await
    }

    /// What strangers would get under the public address.
    pub async fn public_address(&self) -> Result<api::AddressCheck> {
        self.get("/public-address", &()).await
    }
}
