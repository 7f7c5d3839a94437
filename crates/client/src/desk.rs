//! What administrators do beside people: rules, mail, lists and plans, accounts that leave, shelves.

use crate::{Client, Result, encode, encode_query};
use reqwest::Method;
use yellow_attic_api as api;

impl Client {
    /// All rules.
    pub async fn rules(&self) -> Result<api::Rules> {
        self.get("/rules", &()).await
    }

    /// Sets a rule, or tells what that would do.
    pub async fn set_rule(&self, name: &str, change: &api::RuleChange) -> Result<api::RuleEffects> {
        Self::read(self.call(Method::PUT, &format!("/rules/{}", encode(name))).json(change)).await
    }

    /// The mail server and the latest letters.
    pub async fn mail(&self) -> Result<api::Mail> {
        self.get("/mail", &()).await
    }

    /// Sends a letter at once.
    pub async fn test_mail(&self, to: &str) -> Result<api::MailTested> {
        self.post("/mail/test", &api::MailTest { to: to.into() }).await
    }

    /// Tries a letter again now, or gives it up.
    pub async fn change_letter(&self, letter: i64, again: bool) -> Result<()> {
        let call = self.call(Method::POST, &format!("/mail/{letter}"));
        Self::send(call.json(&api::LetterChange { again })).await.map(drop)
    }

    /// Takes a list of people (CSV).
    pub async fn list_people(
        &self,
        list: Vec<u8>,
        query: &api::ListPeopleQuery,
    ) -> Result<api::ListedPeople> {
        let call = self.call(Method::POST, &format!("/accounts/list{}", encode_query(query)));
        Self::read(call.header("content-type", "text/csv").body(list)).await
    }

    /// Looks at a plan, or applies it.
    pub async fn apply_plan(&self, plan: &api::ApplyPlan) -> Result<api::PlanTold> {
        self.post("/plan", plan).await
    }

    /// What would go with an account.
    pub async fn removal(&self, sign_in: &str) -> Result<api::Goes> {
        self.get(&format!("/accounts/{}/removal", encode(sign_in)), &()).await
    }

    /// Has a disabled account deleted after some days.
    pub async fn decide_removal(&self, sign_in: &str, removal: &api::Removal) -> Result<api::Goes> {
        let call = self.call(Method::PUT, &format!("/accounts/{}/removal", encode(sign_in)));
        Self::read(call.json(removal)).await
    }

    /// Undoes that.
    pub async fn undo_removal(&self, sign_in: &str) -> Result<()> {
        let call = self.call(Method::DELETE, &format!("/accounts/{}/removal", encode(sign_in)));
        Self::send(call).await.map(drop)
    }

    /// Takes all second factors of an account away.
    pub async fn end_factors(&self, sign_in: &str) -> Result<()> {
        let call = self.call(Method::DELETE, &format!("/accounts/{}/factors", encode(sign_in)));
        Self::send(call).await.map(drop)
    }

    /// Invites a guest to a file or folder.
    pub async fn invite_guest(&self, guest: &api::NewGuest) -> Result<api::GuestInvited> {
        let mut told: api::GuestInvited = self.post("/guests", guest).await?;
        if let Some(address) = told.address.as_mut().filter(|a| a.starts_with('/')) {
            *address = format!("{}{address}", self.address());
        }
        Ok(told)
    }

    /// All shared shelves, for administrators.
    pub async fn shared_shelves(&self) -> Result<api::SharedShelves> {
        self.get("/desk/shelves", &()).await
    }

    /// Changes a shared shelf.
    pub async fn change_shelf(&self, root: i64, change: &api::ShelfChange) -> Result<api::SharedShelf> {
        Self::read(self.call(Method::PATCH, &format!("/shelves/{root}")).json(change)).await
    }

    /// A folder becomes a shared shelf.
    pub async fn raise(&self, node: i64, name: &str) -> Result<api::SharedShelf> {
        self.post(&format!("/nodes/{node}/raise"), &api::Raise { name: name.into() }).await
    }

    /// A shared shelf becomes a folder.
    pub async fn lower(&self, root: i64, parent: i64, name: &str) -> Result<api::Node> {
        self.post(&format!("/shelves/{root}/lower"), &api::Lower { parent, name: name.into() }).await
    }

    /// One's own account.
    pub async fn me(&self) -> Result<api::Own> {
        self.get("/me", &()).await
    }

    /// Who has to wait for guessing.
    pub async fn slowed(&self) -> Result<api::AllSlowed> {
        self.get("/slowed", &()).await
    }

    /// Lets somebody go on at once; none: everybody.
    pub async fn release(&self, of: Option<&str>) -> Result<api::Released> {
        let query = api::SlowedQuery { of: of.map(str::to_string) };
        Self::read(self.call(Method::DELETE, &format!("/slowed{}", crate::encode_query(&query)))).await
    }

    /// Work in the background, and how it stands with backups.
    pub async fn jobs(&self) -> Result<api::Jobs> {
        self.get("/jobs", &()).await
    }

    /// Ends a job that runs.
    pub async fn stop_job(&self, job: i64) -> Result<()> {
        Self::send(self.call(Method::POST, &format!("/jobs/{job}/stop"))).await.map(drop)
    }

    /// Begins a backup to the folder that is set.
    pub async fn begin_backup(&self) -> Result<()> {
        Self::send(self.call(Method::POST, "/jobs/backup")).await.map(drop)
    }

    /// How the store stands.
    pub async fn store_state(&self) -> Result<api::StoreState> {
        self.get("/store", &()).await
    }
}
