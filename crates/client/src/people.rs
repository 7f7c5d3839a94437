//! Accounts, groups, and who may do what.

use crate::{Client, Result, encode};
use reqwest::Method;
use yellow_attic_api as api;

impl Client {
    /// Proves once more who one is, for ten minutes.
    pub async fn prove(&self, password: &str, code: Option<&str>) -> Result<()> {
        let body = api::Proof {
            password: password.into(),
            code: code.map(str::to_string),
            ticket: None,
            passkey: None,
        };
        Self::send(self.call(Method::POST, "/proof").json(&body)).await.map(drop)
    }

    /// All to whom something can be given.
    pub async fn people(&self) -> Result<api::People> {
        self.get("/people", &()).await
    }

    /// All that is set on the way to a node.
    pub async fn rights(&self, node: i64) -> Result<api::Reach> {
        self.get(&format!("/nodes/{node}/rights"), &()).await
    }

    /// Gives a right.
    pub async fn give(&self, node: i64, grant: &api::NewGrant) -> Result<api::Grant> {
        self.post(&format!("/nodes/{node}/rights"), grant).await
    }

    /// Ends a grant.
    pub async fn end_grant(&self, grant: i64) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/rights/{grant}"))).await.map(drop)
    }

    /// Lets rights start afresh at a folder, or be inherited again.
    pub async fn set_afresh(&self, node: i64, afresh: bool) -> Result<()> {
        let call = self.call(Method::PUT, &format!("/nodes/{node}/afresh"));
        Self::send(call.json(&api::Afresh { afresh })).await.map(drop)
    }

    /// Everybody who may do something at a node, and why.
    pub async fn who(&self, node: i64) -> Result<api::Who> {
        self.get(&format!("/nodes/{node}/who"), &()).await
    }

    /// What an account may do at a node, and why; the caller's own right if none is named.
    pub async fn why(&self, node: i64, account: Option<&str>) -> Result<api::Why> {
        let query = api::WhyQuery { account: account.map(str::to_string) };
        self.get(&format!("/nodes/{node}/why"), &query).await
    }

    /// A page of accounts.
    pub async fn accounts_page(&self, query: &api::AccountsQuery) -> Result<api::Accounts> {
        self.get("/accounts", query).await
    }

    /// All accounts of a filter, page by page.
    pub async fn accounts(&self, query: &api::AccountsQuery) -> Result<api::Accounts> {
        let mut query = api::AccountsQuery { limit: Some(1000), ..query.clone() };
        let mut all = self.accounts_page(&query).await?;
        while let Some(cursor) = all.next.take() {
            query.cursor = Some(cursor);
            let page = self.accounts_page(&query).await?;
            all.accounts.extend(page.accounts);
            all.next = page.next;
        }
        Ok(all)
    }

    /// All that is known of one account.
    pub async fn account(&self, sign_in: &str) -> Result<api::AccountPage> {
        self.get(&format!("/accounts/{}", encode(sign_in)), &()).await
    }

    /// Ends one of an account's sessions.
    pub async fn end_session_of(&self, sign_in: &str, session: &str) -> Result<()> {
        let path = format!("/accounts/{}/sessions/{}", encode(sign_in), encode(session));
        Self::send(self.call(Method::DELETE, &path)).await.map(drop)
    }

    /// Disconnects one of an account's computers.
    pub async fn end_device_of(&self, sign_in: &str, device: i64) -> Result<()> {
        let path = format!("/accounts/{}/devices/{device}", encode(sign_in));
        Self::send(self.call(Method::DELETE, &path)).await.map(drop)
    }

    /// Ends the invitation of an account.
    pub async fn end_invitation(&self, sign_in: &str) -> Result<()> {
        let path = format!("/accounts/{}/invitation", encode(sign_in));
        Self::send(self.call(Method::DELETE, &path)).await.map(drop)
    }

    /// Makes an account.
    pub async fn make_account(&self, new: &api::NewAccount) -> Result<api::Account> {
        self.post("/accounts", new).await
    }

    /// Makes an address by which an account's password is chosen, once.
    pub async fn invite(&self, sign_in: &str) -> Result<api::Invitation> {
        let mut made: api::Invitation =
            self.post(&format!("/accounts/{}/invitation", encode(sign_in)), &()).await?;
        if made.address.starts_with('/') {
            made.address = format!("{}{}", self.address(), made.address);
        }
        Ok(made)
    }

    /// Changes an account.
    pub async fn change_account(&self, sign_in: &str, change: &api::AccountChange) -> Result<api::Account> {
        Self::read(self.call(Method::PATCH, &format!("/accounts/{}", encode(sign_in))).json(change)).await
    }

    /// A page of groups.
    pub async fn groups_page(&self, query: &api::GroupsQuery) -> Result<api::Groups> {
        self.get("/groups", query).await
    }

    /// All groups of a filter, page by page.
    pub async fn groups(&self, query: &api::GroupsQuery) -> Result<api::Groups> {
        let mut query = api::GroupsQuery { limit: Some(1000), ..query.clone() };
        let mut all = self.groups_page(&query).await?;
        while let Some(cursor) = all.next.take() {
            query.cursor = Some(cursor);
            let page = self.groups_page(&query).await?;
            all.groups.extend(page.groups);
            all.next = page.next;
        }
        Ok(all)
    }

    /// A group with all its members.
    pub async fn group(&self, name: &str) -> Result<api::Group> {
        self.get(&format!("/groups/{}", encode(name)), &()).await
    }

    /// Makes a group.
    pub async fn make_group(&self, new: &api::NewGroup) -> Result<api::Group> {
        self.post("/groups", new).await
    }

    /// Changes a group.
    pub async fn change_group(&self, name: &str, change: &api::GroupChange) -> Result<api::Group> {
        Self::read(self.call(Method::PATCH, &format!("/groups/{}", encode(name))).json(change)).await
    }

    /// Ends a group.
    pub async fn end_group(&self, name: &str) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/groups/{}", encode(name)))).await.map(drop)
    }

    /// Makes a shared shelf.
    pub async fn make_shelf(&self, new: &api::NewShelf) -> Result<api::Shelf> {
        self.post("/shelves", new).await
    }
}
