//! Locks: all that hold are in memory, with the writer and with readers; each change of them is in the catalogue
//! before it is answered. Whoever changes something must pass them, whichever way they came.

use crate::catalogue::rows::parse;
use crate::fs::error::Result;
use sqlx::SqliteConnection;
use yellow_attic_core::locks::Lock;
use yellow_attic_core::{AccountId, NodeId};

/// A lock, with what is shown of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// What it keeps others from.
    pub lock: Lock,
    /// Its holder, as everybody may read it.
    pub who: String,
    /// When it was taken, in milliseconds.
    pub made_at: i64,
}

/// Everything that is locked.
pub(crate) type Locks = Vec<Held>;

/// A lock that is asked for.
#[derive(Clone, Debug)]
pub struct NewLock {
    /// Where.
    pub node: NodeId,
    /// For all beneath too.
    pub deep: bool,
    /// Whether nobody else may hold one.
    pub exclusive: bool,
    /// Whether its holder must name the token.
    pub by_token: bool,
    /// Who the holder says to be.
    pub owner: Option<String>,
    /// How long it lives, in milliseconds.
    pub lives_ms: i64,
}

/// A change of locks.
#[derive(Clone, Debug)]
pub(crate) enum Locking {
    Take(NewLock, String),
    Refresh(NodeId, String, Option<i64>),
    Release(NodeId, String),
    End(NodeId),
}

type LockJson = (String, i64, i64, i64, i64, String, i64, Option<String>, i64, i64, i64);

pub(crate) async fn load(conn: &mut SqliteConnection) -> Result<Locks> {
    let text: String = sqlx::query_scalar(
        "SELECT json_group_array(json_array(token, node, deep, exclusive, account, who, by_token, owner, lives_ms, made_at, until))
         FROM (SELECT l.token, l.node, l.deep, l.exclusive, l.account, l.by_token, l.owner, l.lives_ms, l.made_at, l.until,
                 -- Strangers may read it, too: nobody's name to sign in with, as long as there is another.
                 coalesce((SELECT nullif(a.display_name, '') FROM accounts a WHERE a.id = l.account), l.who) AS who
               FROM locks l ORDER BY l.made_at, l.token)",
    )
    .fetch_one(conn)
    .await?;
    let rows = parse::<Vec<LockJson>>(&text)?;
    let held = rows.into_iter().map(
        |(token, node, deep, exclusive, holder, who, by_token, owner, lives_ms, made_at, until)| Held {
            lock: Lock {
                token,
                node: NodeId(node),
                deep: deep != 0,
                exclusive: exclusive != 0,
                holder: AccountId(holder),
                by_token: by_token != 0,
                owner,
                lives_ms,
                until,
            },
            who,
            made_at,
        },
    );
    Ok(held.collect())
}
