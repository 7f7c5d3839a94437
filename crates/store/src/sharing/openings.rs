//! Openings: links and intakes as they are kept, who may decide over them, and whether they act.

use crate::catalogue::rows::sql;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row, Through};
use crate::sharing::Sharing;
use async_recursion::async_recursion as boxed;
use std::sync::Arc;
use yellow_attic_core::intake::Kinds;
use yellow_attic_core::openings::{
    Breaks, Can, ENDING_BYTES, Kind, Maker, Shut, Terms, breaks, check_ending, ending_from,
};
use yellow_attic_core::rights::Level;
use yellow_attic_core::rules::{Door, Rule};
use yellow_attic_core::{AccountId, NodeId, OpeningId};

/// The longest title and message, in bytes.
pub const LONGEST_TITLE: usize = 200;
const LONGEST_MESSAGE: usize = 4_000;

/// A link or an intake.
#[derive(Clone, Debug)]
pub struct Opening {
    /// Its id.
    pub id: OpeningId,
    /// Link or intake.
    pub kind: Kind,
    /// The end of its address.
    pub ending: String,
    /// What it opens.
    pub node: NodeId,
    /// What a link lets do.
    pub can: Can,
    /// What is said to strangers above all; empty: the target's name.
    pub title: String,
    /// What is said to strangers besides.
    pub message: String,
    /// The hash of its password; empty: none.
    pub password: String,
    /// Before this it does not open, in milliseconds.
    pub begins_at: Option<i64>,
    /// From this on it does not open any more.
    pub ends_at: Option<i64>,
    /// How many downloads or deliveries.
    pub most: Option<u32>,
    /// How many there were.
    pub used: u32,
    /// Closed for now.
    pub paused: bool,
    /// To be confirmed.
    pub asleep: bool,
    /// When somebody ended it.
    pub ended_at: Option<i64>,
    /// The largest file taken, in bytes.
    pub largest_file: Option<u64>,
    /// The most of one delivery, in bytes.
    pub largest_all: Option<u64>,
    /// What is taken.
    pub kinds: Kinds,
    /// Whether senders are asked for a mail address.
    pub asks_mail: bool,
    /// Who made it.
    pub made_by: AccountId,
    /// When.
    pub made_at: i64,
    /// When it was used last.
    pub used_at: Option<i64>,
    /// From which address.
    pub used_from: Option<String>,
    /// When too many passwords were tried last.
    pub guessed_at: Option<i64>,
}

/// An opening to be made.
#[derive(Clone, Debug)]
pub struct NewOpening {
    /// Link or intake.
    pub kind: Kind,
    /// What it opens.
    pub node: NodeId,
    /// An ending of one's own; none: a random one.
    pub ending: Option<String>,
    /// All else.
    pub set: Set,
}

/// What of an opening can be set; `None` leaves it as it is.
#[derive(Clone, Debug, Default)]
pub struct Set {
    /// What a link lets do.
    pub can: Option<Can>,
    /// The title.
    pub title: Option<String>,
    /// The message.
    pub message: Option<String>,
    /// The hash of a password; empty: none.
    pub password: Option<String>,
    /// When it begins.
    pub begins_at: Option<Option<i64>>,
    /// When it ends.
    pub ends_at: Option<Option<i64>>,
    /// How many downloads or deliveries.
    pub most: Option<Option<u32>>,
    /// The largest file.
    pub largest_file: Option<Option<u64>>,
    /// The most of one delivery.
    pub largest_all: Option<Option<u64>>,
    /// What is taken.
    pub kinds: Option<Kinds>,
    /// Whether senders are asked for a mail address.
    pub asks_mail: Option<bool>,
    /// Paused or not.
    pub paused: Option<bool>,
    /// Confirms one whose target was brought back.
    pub confirmed: bool,
    /// Ended, or opened again.
    pub ended: Option<bool>,
}

impl Opening {
    /// What decides whether it acts.
    pub fn terms(&self) -> Terms {
        Terms {
            kind: self.kind,
            password: !self.password.is_empty(),
            made_at: self.made_at,
            begins_at: self.begins_at,
            ends_at: self.ends_at,
            most: self.most,
            paused: self.paused,
            asleep: self.asleep,
            ended: self.ended_at.is_some(),
        }
    }

    /// The rules that are about its kind: who may make it, the days that it may live, its door.
    pub(crate) fn rules(&self) -> (Rule, Rule, Door) {
        rules_of(self.kind)
    }

    /// A stranger who comes through it.
    pub fn actor(&self, from: &str) -> Actor {
        self.actor_named(format!("stranger by {} {}", self.kind.word(), self.id).into(), from)
    }

    /// The same, with a name that was made before.
    pub fn actor_named(&self, who: Arc<str>, from: &str) -> Actor {
        let most = match self.kind {
            Kind::Link => self.can.level(),
            Kind::Intake => Level::Add,
        };
        Actor {
            account: Some(self.made_by),
            device: None,
            who,
            from: from.into(),
            through: Some(Through { opening: self.id, node: self.node, most }),
            scope: None,
            tokens: Default::default(),
        }
    }

    fn apply(&mut self, set: Set, now: i64) {
        fn put<T>(to: &mut T, value: Option<T>) {
            if let Some(value) = value {
                *to = value;
            }
        }
        put(&mut self.can, set.can);
        put(&mut self.title, set.title.map(|t| t.trim().to_string()));
        put(&mut self.message, set.message.map(|t| t.trim().to_string()));
        put(&mut self.password, set.password);
        put(&mut self.begins_at, set.begins_at);
        put(&mut self.ends_at, set.ends_at);
        put(&mut self.most, set.most);
        put(&mut self.largest_file, set.largest_file);
        put(&mut self.largest_all, set.largest_all);
        put(&mut self.kinds, set.kinds);
        put(&mut self.asks_mail, set.asks_mail);
        put(&mut self.paused, set.paused);
        if set.confirmed {
            self.asleep = false;
        }
        match set.ended {
            Some(true) => self.ended_at = self.ended_at.or(Some(now)),
            Some(false) => self.ended_at = None,
            None => {}
        }
    }
}

impl Set {
    /// Whether nothing is set but ending, pausing and the end.
    fn leaves_the_rest(&self) -> bool {
        self.can.is_none()
            && self.title.is_none()
            && self.message.is_none()
            && self.password.is_none()
            && self.begins_at.is_none()
            && self.most.is_none()
            && self.largest_file.is_none()
            && self.largest_all.is_none()
            && self.kinds.is_none()
            && self.asks_mail.is_none()
            && !self.confirmed
            && self.ended != Some(false)
            && self.paused != Some(false)
    }

    /// Whether it closes, and does nothing beside: such a change is never refused.
    pub fn only_closes(&self) -> bool {
        let closes = self.ended == Some(true) || self.paused == Some(true);
        closes && self.ends_at.is_none() && self.leaves_the_rest()
    }

    /// Whether it lets an opening act at no moment at which it did not before.
    fn only_narrows(&self, before: &Opening) -> bool {
        let sooner = match self.ends_at {
            None => true,
            Some(end) => end.is_some_and(|end| before.ends_at.is_none_or(|b| end <= b)),
        };
        sooner && self.leaves_the_rest()
    }
}

fn rules_of(kind: Kind) -> (Rule, Rule, Door) {
    match kind {
        Kind::Link => (Rule::LinksMadeBy, Rule::LinksDays, Door::Links),
        Kind::Intake => (Rule::IntakesMadeBy, Rule::IntakesDays, Door::Intake),
    }
}

#[derive(sqlx::FromRow)]
struct Raw {
    id: i64,
    kind: String,
    ending: String,
    node: i64,
    can: String,
    title: String,
    message: String,
    password: String,
    begins_at: Option<i64>,
    ends_at: Option<i64>,
    most: Option<i64>,
    used: i64,
    paused: bool,
    asleep: bool,
    ended_at: Option<i64>,
    largest_file: Option<i64>,
    largest_all: Option<i64>,
    kinds: String,
    asks_mail: bool,
    made_by: i64,
    made_at: i64,
    used_at: Option<i64>,
    used_from: Option<String>,
    guessed_at: Option<i64>,
}

fn size(n: Option<i64>) -> Option<u64> {
    n.and_then(|n| u64::try_from(n).ok())
}

fn kept(n: Option<u64>) -> Option<i64> {
    n.map(|n| i64::try_from(n).unwrap_or(i64::MAX))
}

impl Raw {
    fn read(self) -> Opening {
        Opening {
            id: OpeningId(self.id),
            kind: Kind::from_word(&self.kind).unwrap_or(Kind::Link),
            ending: self.ending,
            node: NodeId(self.node),
            can: Can::from_word(&self.can).unwrap_or(Can::View),
            title: self.title,
            message: self.message,
            password: self.password,
            begins_at: self.begins_at,
            ends_at: self.ends_at,
            most: self.most.and_then(|n| u32::try_from(n).ok()),
            used: u32::try_from(self.used).unwrap_or(0),
            paused: self.paused,
            asleep: self.asleep,
            ended_at: self.ended_at,
            largest_file: size(self.largest_file),
            largest_all: size(self.largest_all),
            kinds: Kinds::read(&self.kinds).unwrap_or_default(),
            asks_mail: self.asks_mail,
            made_by: AccountId(self.made_by),
            made_at: self.made_at,
            used_at: self.used_at,
            used_from: self.used_from,
            guessed_at: self.guessed_at,
        }
    }
}

/// Which openings are wanted.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Made by this account.
    pub by: Option<AccountId>,
    /// Of this node.
    pub node: Option<NodeId>,
    /// Only these.
    pub kind: Option<Kind>,
}

impl Sharing {
    /// Refuses an opening that cannot be, or that rules do not let its maker have.
    /// `set`: what of it is new.
    async fn check_opening(&self, opening: &Opening, chain: &[Arc<Row>], set: &Set) -> Result<()> {
        let bad = |text: &str| Err(StoreError::BadInput(text.into()));
        let what = opening.kind.word();
        if opening.title.len() > LONGEST_TITLE || opening.title.chars().any(char::is_control) {
            return bad("The title is longer than 200 bytes, or has several lines.");
        }
        if opening.message.len() > LONGEST_MESSAGE {
            return bad("The message is longer than 4000 bytes.");
        }
        if opening.most == Some(0) {
            return bad("Not even one is none at all: leave the number out, or say 1 or more.");
        }
        if let (Some(begin), Some(end)) = (opening.begins_at, opening.ends_at)
            && begin >= end
        {
            return bad("It would end before it begins.");
        }
        if opening.largest_file == Some(0) || opening.largest_all == Some(0) {
            return bad("A size of nothing would take nothing.");
        }
        let folder = chain[0].is_folder();
        if opening.kind == Kind::Intake && !folder {
            return bad("An intake needs a folder to put things into.");
        }
        if opening.can >= Can::Add && !folder {
            return bad("Only a folder can be added to; a file can be viewed or downloaded.");
        }
        if opening.most.is_some() && opening.kind == Kind::Link && opening.can != Can::Download {
            return bad("Downloads are counted only where a link lets download, and nothing else.");
        }
        let rules = self.0.people().rules();
        let facts = self.facts_with(opening, &rules).await?;
        let refused = |why: Shut| StoreError::OpeningRefused { what, why: why.sentence(opening.kind) };
        if facts.maker == Maker::DoorClosed {
            return Err(refused(Shut::DoorClosed));
        }
        if opening.ended_at.is_none() {
            match breaks(&opening.terms(), &facts) {
                Some(Breaks::Maker) => return Err(refused(Shut::NotByMaker)),
                Some(Breaks::Inside) => return Err(refused(Shut::KeptInside)),
                Some(Breaks::Password) if opening.id.0 == 0 || set.password.is_some() => {
                    return Err(refused(Shut::NeedsPassword));
                }
                // A rule that came later shortens it by itself.
                Some(Breaks::Days(longest)) if opening.id.0 == 0 || set.ends_at.is_some() => {
                    let days = facts.days.unwrap_or(0);
                    return Err(StoreError::OpeningTooLong { what, days, longest });
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Makes an opening. Whoever makes it must manage what it opens.
    #[boxed]
    pub async fn make_opening(&self, actor: &Actor, new: NewOpening) -> Result<Opening> {
        let account = actor.account.ok_or_else(|| StoreError::NotFound("The account".into()))?;
        let chain = self.0.files().chain(actor, new.node, Level::Manage).await?;
        let ending = match new.ending.as_deref().map(str::trim).filter(|e| !e.is_empty()) {
            Some(own) => {
                check_ending(own).map_err(|e| StoreError::BadEnding(e.to_string()))?;
                own.to_string()
            }
            None => {
                let mut random = [0u8; ENDING_BYTES];
                getrandom::fill(&mut random).map_err(|e| StoreError::BadInput(e.to_string()))?;
                ending_from(&random)
            }
        };
        let now = self.0.now_ms();
        let mut opening = Opening {
            id: OpeningId(0),
            kind: new.kind,
            ending,
            node: new.node,
            can: Can::Download,
            title: String::new(),
            message: String::new(),
            password: String::new(),
            begins_at: None,
            ends_at: None,
            most: None,
            used: 0,
            paused: false,
            asleep: false,
            ended_at: None,
            largest_file: None,
            largest_all: None,
            kinds: Kinds::default(),
            asks_mail: false,
            made_by: account,
            made_at: now,
            used_at: None,
            used_from: None,
            guessed_at: None,
        };
        opening.apply(new.set.clone(), now);
        if opening.ends_at.is_some_and(|end| end <= now) {
            return Err(StoreError::BadInput("The end lies in the past.".into()));
        }
        self.check_opening(&opening, &chain, &new.set).await?;
        let action = match opening.kind {
            Kind::Link => "link made",
            Kind::Intake => "intake made",
        };
        let what = self.path_for_record(&chain);
        let row = opening.clone();
        self.0.people().change(actor, action, &what, move |conn| {
            Box::pin(async move {
                let done = sqlx::query(
                    "INSERT INTO openings (org, kind, ending, node, can, title, message, password, begins_at, ends_at, most,
                       largest_file, largest_all, kinds, asks_mail, made_by, made_at)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (ending) DO NOTHING",
                )
                .bind(row.kind.word())
                .bind(&row.ending)
                .bind(row.node.0)
                .bind(row.can.word())
                .bind(&row.title)
                .bind(&row.message)
                .bind(&row.password)
                .bind(row.begins_at)
                .bind(row.ends_at)
                .bind(row.most)
                .bind(kept(row.largest_file))
                .bind(kept(row.largest_all))
                .bind(row.kinds.word())
                .bind(row.asks_mail)
                .bind(row.made_by.0)
                .bind(row.made_at)
                .execute(conn)
                .await?;
                match done.rows_affected() {
                    0 => Err(StoreError::EndingTaken(row.ending)),
                    _ => Ok(()),
                }
            })
        })
        .await?;
        self.opening_at(&opening.ending).await?.ok_or_else(|| StoreError::NotFound("The opening".into()))
    }

    fn path_for_record(&self, chain: &[Arc<Row>]) -> String {
        let shelf = chain.last().and_then(|top| self.0.shared.view.shelf(top.shelf));
        let names: Vec<&str> = chain.iter().rev().skip(1).map(|r| r.name()).collect();
        format!("{}:/{}", shelf.map_or_else(String::new, |s| s.name.clone()), names.join("/"))
    }

    /// Whether somebody decides over an opening: its maker, and whoever manages what it opens.
    #[boxed]
    pub async fn decides_over(&self, actor: &Actor, opening: &Opening) -> bool {
        actor.account == Some(opening.made_by)
            || self.0.files().chain(actor, opening.node, Level::Manage).await.is_ok()
    }

    /// Changes an opening. `anyway`: for administrators, who may end and tighten what they do not manage.
    #[boxed]
    pub async fn change_opening(
        &self,
        actor: &Actor,
        id: OpeningId,
        set: Set,
        anyway: bool,
    ) -> Result<Opening> {
        let gone = || StoreError::NotFound("The link or intake".into());
        let before = self.opening(id).await?.ok_or_else(gone)?;
        let own = self.decides_over(actor, &before).await;
        if !own && !anyway {
            return Err(gone());
        }
        if !own && !set.only_narrows(&before) {
            return Err(StoreError::NotAllowed { need: Level::Manage.word(), have: "close" });
        }
        let now = self.0.now_ms();
        let ends = set.ended == Some(true);
        let mut after = before.clone();
        after.apply(set.clone(), now);
        if set.ends_at.flatten().is_some_and(|end| end <= now) && !ends {
            return Err(StoreError::BadInput("The end lies in the past; to close it now, end it.".into()));
        }
        let chain = self.0.shared.view.chain(after.node).await?;
        match &chain {
            // What only closes is never refused.
            _ if set.only_closes() || !own => {}
            Some(chain) => self.check_opening(&after, chain, &set).await?,
            None => return Err(StoreError::NotFound("What it opens".into())),
        }
        let action = match (before.kind, ends) {
            (Kind::Link, true) => "link ended",
            (Kind::Intake, true) => "intake ended",
            (Kind::Link, false) => "link changed",
            (Kind::Intake, false) => "intake changed",
        };
        let what = chain.map_or_else(String::new, |chain| self.path_for_record(&chain));
        self.0.people().change(actor, action, &what, move |conn| {
            Box::pin(async move {
                // Only what was set: two changes at once do not undo each other.
                let ended_at = match set.ended {
                    Some(true) => Some(now),
                    _ => None,
                };
                sqlx::query(
                    "UPDATE openings SET
                       can = coalesce(?2, can), title = coalesce(?3, title), message = coalesce(?4, message),
                       password = coalesce(?5, password), begins_at = iif(?6, ?7, begins_at), ends_at = iif(?8, ?9, ends_at),
                       most = iif(?10, ?11, most), largest_file = iif(?12, ?13, largest_file),
                       largest_all = iif(?14, ?15, largest_all), kinds = coalesce(?16, kinds),
                       asks_mail = coalesce(?17, asks_mail), paused = coalesce(?18, paused),
                       asleep = iif(?19, 0, asleep), ended_at = iif(?20, ?21, ended_at)
                     WHERE id = ?1",
                )
                .bind(id.0)
                .bind(set.can.map(Can::word))
                .bind(set.title.map(|t| t.trim().to_string()))
                .bind(set.message.map(|t| t.trim().to_string()))
                .bind(set.password)
                .bind(set.begins_at.is_some())
                .bind(set.begins_at.flatten())
                .bind(set.ends_at.is_some())
                .bind(set.ends_at.flatten())
                .bind(set.most.is_some())
                .bind(set.most.flatten())
                .bind(set.largest_file.is_some())
                .bind(kept(set.largest_file.flatten()))
                .bind(set.largest_all.is_some())
                .bind(kept(set.largest_all.flatten()))
                .bind(set.kinds.map(|k| k.word()))
                .bind(set.asks_mail)
                .bind(set.paused)
                .bind(set.confirmed)
                .bind(set.ended.is_some())
                .bind(ended_at)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        if ends {
            // What strangers had under way goes with it, and gives back its room.
            self.0.files().end_uploads_through(id).await?;
        }
        self.opening(id).await?.ok_or_else(gone)
    }

    /// An opening by its id.
    #[boxed]
    pub async fn opening(&self, id: OpeningId) -> Result<Option<Opening>> {
        let raw: Option<Raw> = sqlx::query_as("SELECT * FROM openings WHERE id = ?")
            .bind(id.0)
            .fetch_optional(&self.0.shared.view.pool)
            .await?;
        Ok(raw.map(Raw::read))
    }

    /// An opening by the end of its address.
    #[boxed]
    pub async fn opening_at(&self, ending: &str) -> Result<Option<Opening>> {
        let raw: Option<Raw> = sqlx::query_as("SELECT * FROM openings WHERE ending = ?")
            .bind(ending)
            .fetch_optional(&self.0.shared.view.pool)
            .await?;
        Ok(raw.map(Raw::read))
    }

    /// Openings, newest first; those ended long ago are gone.
    #[boxed]
    pub async fn openings(&self, wanted: &Wanted) -> Result<Vec<Opening>> {
        let raw: Vec<Raw> = sqlx::query_as(sql(
            "SELECT * FROM openings WHERE (?1 IS NULL OR made_by = ?1) AND (?2 IS NULL OR node = ?2)
               AND (?3 IS NULL OR kind = ?3) ORDER BY id DESC"
                .into(),
        ))
        .bind(wanted.by.map(|a| a.0))
        .bind(wanted.node.map(|n| n.0))
        .bind(wanted.kind.map(Kind::word))
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(raw.into_iter().map(Raw::read).collect())
    }
}
