//! Carries out what a pair says is to be done, here and on the service.

use super::Shared;
use super::feed;
use super::ground::{Ground, NotDone, Stands, Way};
use super::send::Sends;
use crate::delta::Meter;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use yellow_attic_client::{Client, Error, Stated, api};
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Hash, Object};

/// What an action is carried out with: where things are here, looked up when it was decided.
pub struct Task {
    /// The action.
    pub action: Action,
    /// The way to the thing here, as the file system has it.
    pub way: Option<Way>,
    /// The object that it was here.
    pub object: Option<Object>,
    /// The way to the folder that it goes to here.
    pub above: Option<Way>,
    /// What the request is called, so that its repeat does nothing twice.
    pub request: String,
    /// Its name and folder on the service, for what is sent in parts.
    pub named: Option<(i64, String)>,
    /// What may be a state that the service had: its node, and its hash here.
    pub past: Option<(i64, Hash)>,
    /// What is fetched is only marked as being there: its bytes come when a program asks for them.
    pub stub: bool,
    /// How far it is.
    pub gauge: Arc<Gauge>,
}

/// How many bytes of something are where they belong, for whoever looks.
#[derive(Debug, Default)]
pub struct Gauge {
    /// So many are.
    pub done: AtomicU64,
    /// Of so many.
    pub of: AtomicU64,
}

/// Counts the bytes of one file on their way, and lets them go no faster than they may.
pub(super) struct Line {
    moved: Arc<AtomicU64>,
    shared: Arc<Shared>,
    gauge: Arc<Gauge>,
    up: bool,
}

impl Line {
    /// So many are there, whatever was counted before.
    pub(super) fn stands(&self, bytes: u64) {
        self.gauge.done.store(bytes, Ordering::Relaxed);
    }
}

impl Meter for Line {
    fn same(&self, bytes: u64) {
        self.gauge.done.fetch_add(bytes, Ordering::Relaxed);
    }

    async fn moves(&self, bytes: u64) {
        let pace = if self.up { &self.shared.up } else { &self.shared.down };
        pace.take(bytes).await;
        self.moved.fetch_add(bytes, Ordering::Relaxed);
        self.gauge.done.fetch_add(bytes, Ordering::Relaxed);
    }
}

/// Carries out actions of one pair.
#[derive(Clone)]
pub struct Hands {
    /// The service.
    pub client: Client,
    /// The folder here.
    pub ground: Arc<Ground>,
    /// Milliseconds since 1970 to RFC 3339.
    pub show_time: fn(i64) -> Option<String>,
    /// Bytes sent and fetched.
    pub moved: Arc<AtomicU64>,
    /// How fast.
    pub shared: Arc<Shared>,
}

/// What came of it, and what is to be told to somebody.
pub struct Came {
    /// The outcome.
    pub outcome: Outcome,
    /// Why the whole pair is in trouble, if it is.
    pub trouble: Option<Trouble>,
}

/// What stands in the way of a whole pair.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trouble {
    /// The service does not answer.
    Away(String),
    /// It lets this computer in no more: the words say why.
    Shut(String),
    /// This computer's disk says no.
    Disk(String),
}

impl Trouble {
    /// Whether it is not over by itself.
    pub fn needs_somebody(&self) -> bool {
        !matches!(self, Trouble::Away(_))
    }

    /// As people read it.
    pub fn words(&self) -> String {
        match self {
            Trouble::Away(why) => format!("the service does not answer: {why}"),
            Trouble::Shut(why) => format!("the service lets this computer in no more: {why}"),
            Trouble::Disk(why) => format!("this computer's disk: {why}"),
        }
    }
}

impl From<Outcome> for Came {
    fn from(outcome: Outcome) -> Came {
        Came { outcome, trouble: None }
    }
}

impl From<NotDone> for Came {
    fn from(not: NotDone) -> Came {
        match not {
            NotDone::Otherwise => Outcome::OtherwiseHere.into(),
            NotDone::Busy => Outcome::Busy.into(),
            NotDone::NotAtHand => Outcome::Refused("not_at_hand".into()).into(),
            NotDone::Failed(e) => {
                Came { outcome: Outcome::Unknown, trouble: Some(Trouble::Disk(e.to_string())) }
            }
        }
    }
}

/// What a refusal of the service means.
pub fn trouble_of(error: &Error) -> Option<Trouble> {
    match error {
        Error::Line(why) => Some(Trouble::Away(why.clone())),
        Error::Refused(p)
            if p.status == 401
                || ["door_closed", "account_closed", "shelf_not_synced"].contains(&p.code.as_str()) =>
        {
            Some(Trouble::Shut(p.detail.clone()))
        }
        Error::Refused(p) if p.status >= 500 && p.status != 507 || p.status == 429 => {
            Some(Trouble::Away(p.detail.clone()))
        }
        Error::Strange(why) => Some(Trouble::Away(why.clone())),
        _ => None,
    }
}

impl From<Error> for Came {
    fn from(error: Error) -> Came {
        if let Some(trouble) = trouble_of(&error) {
            return Came { outcome: Outcome::Unknown, trouble: Some(trouble) };
        }
        match &error {
            Error::Refused(p) => match p.code.as_str() {
                "changed_meanwhile" | "not_found" | "name_taken" | "place_gone" | "folder_in_the_way"
                | "condition_failed" | "busy" | "into_itself" | "wrong_hash" | "not_a_folder"
                | "not_a_file" => Outcome::OtherwiseThere.into(),
                "still_here" => Outcome::Elsewhere.into(),
                code => Outcome::Refused(code.to_string()).into(),
            },
            other => Came { outcome: Outcome::Unknown, trouble: Some(Trouble::Disk(other.to_string())) },
        }
    }
}

pub(super) type Done = Result<Outcome, Came>;

pub(super) fn here((object, stat): Stands) -> Outcome {
    Outcome::Here(object, stat)
}

pub(super) fn there(node: &api::Node) -> Done {
    Ok(Outcome::There(vec![feed::node(node)?]))
}

/// Does something with the disk, where waiting for it holds nobody up.
pub(super) async fn on_disk<T: Send + 'static>(
    does: impl FnOnce() -> Result<T, NotDone> + Send + 'static,
) -> Result<T, Came> {
    match tokio::task::spawn_blocking(does).await {
        Ok(done) => Ok(done?),
        Err(_) => Err(Outcome::Unknown.into()),
    }
}

impl Hands {
    /// Carries it out.
    pub async fn carry_out(&self, task: &Task) -> Came {
        match self.try_it(task).await {
            Ok(outcome) => outcome.into(),
            Err(came) => came,
        }
    }

    async fn try_it(&self, task: &Task) -> Done {
        let ground = self.ground.clone();
        let otherwise = || Came::from(Outcome::OtherwiseHere);
        let way = || task.way.clone().ok_or_else(otherwise);
        let above = || task.above.clone().ok_or_else(otherwise);
        let object = || task.object.ok_or_else(otherwise);
        match &task.action.does {
            Does::ReadHash(stat) => {
                let (way, seen) = (way()?, (object()?, *stat));
                Ok(Outcome::Read(on_disk(move || ground.hash(&way, seen)).await?))
            }
            Does::MakeFolderHere((_, name)) => {
                let (above, name) = (above()?, name.clone().into_bytes());
                Ok(here(on_disk(move || ground.make_folder(&above, &name)).await?))
            }
            Does::SetAside(..) | Does::MoveHere { follows: false, .. } if self.was_there(task).await? => {
                Ok(Outcome::WasThere)
            }
            Does::MoveHere { slot: (_, name), was, .. } | Does::SetAside((_, name), was) => {
                let (way, above, seen) = (way()?, above()?, (object()?, *was));
                let name = name.clone().into_bytes();
                Ok(here(on_disk(move || ground.rename(&way, seen, &above, &name)).await?))
            }
            Does::RemoveHere(Some(stat)) => {
                let (way, seen) = (way()?, (object()?, *stat));
                on_disk(move || ground.remove_file(&way, seen)).await?;
                Ok(Outcome::Removed)
            }
            Does::RemoveHere(None) => {
                let (way, seen) = (way()?, object()?);
                on_disk(move || ground.remove_folder(&way, seen)).await?;
                Ok(Outcome::Removed)
            }
            Does::MarkHere(executable, was) => {
                let (way, seen, on) = (way()?, (object()?, was.ok_or_else(otherwise)?), *executable);
                Ok(here(on_disk(move || ground.mark(&way, seen, on)).await?))
            }
            Does::Fetch { slot, state, over } if task.stub => {
                self.fetch_stub(task, &slot.1, state, *over).await
            }
            Does::Fetch { slot, state, over } => self.fetch(task, &slot.1, state, *over).await,
            Does::MakeFolderThere { parent, name } => {
                there(&self.stating(task, None, None, None).make_folder(parent.0, name).await?)
            }
            Does::PutNew { parent, name, bytes, stat } => {
                let sends = Sends { thing: "new".into(), seen: None, parent: parent.0, name: name.clone() };
                self.send(task, sends, *bytes, *stat).await
            }
            Does::PutOnto { node, seen, bytes, stat } => {
                let (parent, name) = task.named.clone().ok_or_else(|| Came::from(Outcome::OtherwiseThere))?;
                let sends = Sends { thing: node.0.to_string(), seen: Some(seen.token()), parent, name };
                self.send(task, sends, *bytes, *stat).await
            }
            Does::Revive { node, parent, name } => {
                let body =
                    api::Restore { parent: Some(parent.0), name: Some(name.clone()), ..Default::default() };
                there(&self.client.restore(node.0, &body).await?)
            }
            Does::MoveThere(moves) => {
                let one = |m: &yellow_attic_core::merge::plan::Move| api::OneMove {
                    node: m.node.0,
                    parent: Some(m.parent.0),
                    name: Some(m.name.clone()),
                    seen: Some(m.seen.token()),
                };
                let moves = moves.iter().map(one).collect();
                let done = self.stating(task, None, None, None).move_together(moves).await?;
                Ok(Outcome::There(done.nodes.iter().map(feed::node).collect::<Result<_, _>>()?))
            }
            Does::RemoveThere { node, seen } => {
                let thing = node.0.to_string();
                match self.stating(task, Some(thing), Some(seen.token()), None).remove(node.0).await {
                    Ok(()) => Ok(Outcome::Removed),
                    Err(e) => Err(e.into()),
                }
            }
            Does::MarkThere { node, executable } => {
                let mark = api::Target { executable: Some(*executable), ..Default::default() };
                there(&self.client.change(node.0, &mark).await?)
            }
        }
    }

    /// Whether what lies here is a state that the service had: then it is no edit.
    async fn was_there(&self, task: &Task) -> Result<bool, Came> {
        let Some((node, hash)) = task.past else { return Ok(false) };
        if self.shared.at_hand.is_some()
            && let (Some(way), Some(object)) = (task.way.clone(), task.object)
        {
            // What stands for a state of it is one.
            let ground = self.ground.clone();
            let stands = on_disk(move || Ok(ground.stub_at(&way, object))).await?;
            if stands.is_some_and(|stub| stub.node.0 == node) {
                return Ok(true);
            }
        }
        let hash = blake3::Hash::from_bytes(hash).to_hex();
        match self.client.history(node).await {
            Ok(history) => Ok(history.states.iter().any(|s| s.node.blake3.as_deref() == Some(hash.as_str()))),
            Err(e) if trouble_of(&e).is_some() => Err(e.into()),
            Err(_) => Ok(false),
        }
    }

    /// What counts the bytes of a task: so many are there already.
    pub(super) fn line(&self, task: &Task, up: bool, there: u64, of: u64) -> Line {
        task.gauge.of.store(of, Ordering::Relaxed);
        task.gauge.done.store(there, Ordering::Relaxed);
        Line { moved: self.moved.clone(), shared: self.shared.clone(), gauge: task.gauge.clone(), up }
    }

    pub(super) fn stating(
        &self,
        task: &Task,
        thing: Option<String>,
        seen: Option<String>,
        executable: Option<bool>,
    ) -> Client {
        self.client.stating(Stated { thing, seen, request: Some(task.request.clone()), executable })
    }
}
