//! Deleting accounts: first disabled, then marked, then deleted when its time has come. Until
//! then it can be undone.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::people::People;
use crate::people::accounts::Account;
use async_recursion::async_recursion as boxed;
use yellow_attic_core::AccountId;

/// What goes with an account.
#[derive(Clone, Debug, Default)]
pub struct Goes {
    /// Files on its home shelf.
    pub files: i64,
    /// Their bytes.
    pub bytes: i64,
    /// Grants that it gave to others on its home shelf.
    pub given: i64,
    /// Grants that were given to it.
    pub received: i64,
    /// Shared shelves of which it is the only owner.
    pub shelves: Vec<String>,
    /// Computers it has connected.
    pub computers: i64,
    /// Its groups.
    pub groups: i64,
    /// Uploads that are not finished.
    pub uploads: i64,
}

impl People {
    /// What would go with an account.
    #[boxed]
    pub async fn what_goes(&self, account: &Account) -> Result<Goes> {
        let mut goes = Goes::default();
        if let Some(home) = self.0.home_of(account.id) {
            if let Some(sums) = self.0.files().shelf_sums(home.root).await? {
                (goes.files, goes.bytes) = (sums.files, sums.bytes);
            }
            let access = self.0.shared.view.access();
            for (node, here) in access.places().filter(|(_, h)| !h.grants.is_empty()) {
                let chain = self.0.shared.view.chain(node).await?.unwrap_or_default();
                if chain.last().is_some_and(|top| top.node == home.root) {
                    goes.given += here.grants.len() as i64;
                }
            }
        }
        let id = account.id.0;
        let count =
            |text: &'static str| sqlx::query_scalar(text).bind(id).fetch_one(&self.0.shared.view.pool);
        goes.received = count("SELECT count(*) FROM grants WHERE account = ?").await?;
        goes.computers = count("SELECT count(*) FROM devices WHERE account = ? AND ended_at IS NULL").await?;
        goes.groups = count("SELECT count(*) FROM members WHERE account = ?").await?;
        goes.uploads = count("SELECT count(*) FROM uploads WHERE account = ? AND node IS NULL").await?;
        goes.shelves = self
            .0
            .shared
            .view
            .shared_shelves()
            .into_iter()
            .filter(|s| self.0.space().owners_of(s) == [account.id])
            .map(|s| s.name.clone())
            .collect();
        goes.shelves.sort();
        Ok(goes)
    }

    /// Marks a disabled account to be deleted at a time. `heir`: who gets its files then.
    #[boxed]
    pub async fn mark_leaving(
        &self,
        actor: &Actor,
        account: &Account,
        at: i64,
        heir: Option<&Account>,
    ) -> Result<()> {
        if account.disabled_at.is_none() {
            return Err(StoreError::BadInput(format!(
                "\"{}\" is not disabled; disable it first, and see that nobody misses it.",
                account.sign_in
            )));
        }
        let sole = self.what_goes(account).await?.shelves;
        if !sole.is_empty() {
            return Err(StoreError::BadInput(format!(
                "\"{}\" is the only owner of: {}. Name another owner first.",
                account.sign_in,
                sole.join(", ")
            )));
        }
        let (id, heir_id) = (account.id.0, heir.map(|h| h.id.0));
        let what = match heir {
            Some(heir) => format!("{}, files to {}", account.sign_in, heir.sign_in),
            None => account.sign_in.clone(),
        };
        self.change_rights(actor, "account will be deleted", &what, move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE accounts SET why_disabled = 'leaving', leaves_at = ?, heir = ? WHERE id = ?",
                )
                .bind(at)
                .bind(heir_id)
                .bind(id)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await
    }

    /// Takes that back; the account stays disabled.
    #[boxed]
    pub async fn unmark_leaving(&self, actor: &Actor, account: &Account) -> Result<()> {
        let id = account.id.0;
        self.change_rights(actor, "account stays", &account.sign_in, move |conn| {
            Box::pin(async move {
                let done = sqlx::query(
                    "UPDATE accounts SET why_disabled = '', leaves_at = NULL, heir = NULL
                     WHERE id = ? AND leaves_at IS NOT NULL AND role <> 'gone'",
                )
                .bind(id)
                .execute(conn)
                .await?;
                match done.rows_affected() {
                    0 => Err(StoreError::NotFound("An account that will be deleted".into())),
                    _ => Ok(()),
                }
            })
        })
        .await
    }

    /// Deletes the accounts whose time has come. Returns their names. What fails is tried again at
    /// the next call: each step looks whether it was done.
    #[boxed]
    pub async fn delete_leavers(&self) -> Result<Vec<String>> {
        let now = self.0.now_ms();
        let mut gone = Vec::new();
        let all = self.accounts().await?;
        for account in all.iter().filter(|a| a.leaves.is_some_and(|(at, _)| at <= now)) {
            let heir = account.leaves.and_then(|(_, heir)| heir);
            match self.delete_account(account, heir).await {
                Ok(()) => gone.push(account.sign_in.clone()),
                // It stays as it is, marked; the others do not wait for it.
                Err(error) => {
                    tracing::warn!(account = account.sign_in, %error, "an account could not be deleted; it is tried again");
                }
            }
        }
        Ok(gone)
    }

    async fn delete_account(&self, account: &Account, heir: Option<AccountId>) -> Result<()> {
        let service = Actor::service();
        // 1. The files: one rename. After a crash here the home is gone, and step 2 follows.
        if let Some(home) = self.0.home_of(account.id) {
            // An heir who is gone meanwhile: nothing is deleted until somebody has decided anew.
            let gone = || StoreError::NotFound("The home of who gets the files".into());
            match heir.map(|h| self.0.home_of(h).ok_or_else(gone)).transpose()? {
                Some(to) => {
                    let name = self
                        .0
                        .sharing()
                        .free_folder_name(to.root, &format!("Files of {}", account.display_name))
                        .await?;
                    self.0.space().lower_shelf(&service, home.id, to.root, name).await?;
                }
                None => drop(self.0.space().drop_shelf(&service, home.id).await?),
            }
        }
        // 2. All that speaks of it as somebody who could come back. Its row stays, without a name to
        //    sign in by: history says who did what.
        let id = account.id.0;
        self.change_rights(&service, "account deleted", &account.sign_in, move |conn| {
            Box::pin(async move {
                for text in [
                    "DELETE FROM grants WHERE account = ?",
                    "DELETE FROM members WHERE account = ?",
                    "DELETE FROM sessions WHERE account = ?1 OR looks_as = ?1",
                    "DELETE FROM devices WHERE account = ?",
                    "DELETE FROM invitations WHERE account = ?",
                    "DELETE FROM factors WHERE account = ?",
                    "DELETE FROM recovery_codes WHERE account = ?",
                    "DELETE FROM pictures WHERE account = ?",
                    "DELETE FROM looks WHERE account = ?",
                    "DELETE FROM shelf_owners WHERE account = ?",
                    "UPDATE accounts SET role = 'gone', sign_in = '~' || id, mail = NULL, password = '', heir = NULL,
                       closed = '', quota = NULL, invited_by = NULL WHERE id = ?",
                ] {
                    sqlx::query(text).bind(id).execute(&mut *conn).await?;
                }
                Ok(())
            })
        })
        .await
    }
}
