//! A pair at work: what is seen is told to it, what it says is done, what became of that is told to it, and all is kept.

use super::act::{Came, Gauge, Hands, Task, Trouble};
use super::again::{Again, HALF};
use super::ground::Ground;
use super::many::together;
use super::send::LARGE;
use super::state::{About, State, StateError, file_of};
use super::status::{Deed, Left, Status};
use super::tell::{Rate, deed};
use super::watch::Watch;
use super::{Shared, as_ordered, halves, limits, new_pair};
use futures_util::StreamExt;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, Semaphore, watch};
use tokio::task::JoinSet;
use yellow_attic_client::Client;
use yellow_attic_core::limits::Limits;
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Item, Object, Pair, TOP};

/// So much is under way at once.
pub(super) const AT_ONCE: usize = 4_096;
/// Memory is given back so often at most.
const TRIM: Duration = Duration::from_secs(2);
/// So many requests are.
const LINES: usize = 48;
/// One that carries many files, all of which lie in memory, counts for so many.
const LOT: u32 = 6;
/// So much of what is under way is told to whoever looks.
const TOLD: usize = 50;
/// A folder in which something happened is listed after it was still for so long.
pub(super) const STILL: Duration = Duration::from_millis(250);
/// Or after so long, if it never is.
pub(super) const RESTLESS: Duration = Duration::from_secs(2);
/// What is known is kept so often while much is brought here.
pub(super) const KEEP: Duration = Duration::from_secs(3);
/// Something that is missed is believed to be gone after so long.
pub(super) const MISSED: Duration = Duration::from_millis(1500);
/// The service is asked so often even if it tells nothing.
pub(super) const ASK: Duration = Duration::from_secs(5);
/// Everything is looked at so often, for what no event told.
pub(super) const WALK: Duration = Duration::from_secs(24 * 3600);
/// While nothing is carried, it is looked so often whether it may be again.
const REST: Duration = Duration::from_secs(20);
/// Deeds that are remembered for whoever looks.
const LATELY: usize = 50;
/// The same refusal so often in a row holds a thing.
const PATIENCE: u32 = 6;

/// Why a pair stopped.
#[derive(Debug, thiserror::Error)]
pub enum Stopped {
    /// Its state.
    #[error("{0}")]
    State(#[from] StateError),
    /// The folder here.
    #[error("{path}: {why}")]
    Ground {
        /// The folder.
        path: String,
        /// Why.
        why: std::io::Error,
    },
    /// Somebody has to look first.
    #[error("{0}")]
    Asks(String),
}

/// What a status was of: the pair's revision, the trouble, how much was under way, how many bytes were moved, and whether all
/// was the same.
type Told = (u64, Option<Trouble>, usize, u64, bool);

/// What whoever runs pairs tells them.
#[derive(Clone)]
pub struct Orders {
    /// To stop.
    pub stop: watch::Receiver<bool>,
    /// To read anew what they are to do.
    pub nudged: watch::Receiver<u64>,
}

/// A pair at work.
pub struct Running {
    pub(super) about: About,
    pub(super) folder: PathBuf,
    pub(super) limits: Limits,
    pub(super) state: State,
    pub(super) pair: Pair,
    pub(super) timeline: String,
    pub(super) hands: Hands,
    pub(super) watch: Watch,
    /// Names that the file system has otherwise than the service.
    pub(super) raw: HashMap<(Item, String), Vec<u8>>,
    /// What lies in folders here and is not kept the same.
    pub(super) left: BTreeMap<Item, Vec<Left>>,
    pub(super) lately: std::collections::VecDeque<Deed>,
    pub(super) refused: HashMap<Item, u32>,
    pub(super) trouble: Option<Trouble>,
    pub(super) in_step_at: Option<String>,
    pub(super) doing: BTreeMap<Item, Doing>,
    /// How fast bytes went lately.
    pub(super) rate: Rate,
    /// What was begun and has not come to its end.
    begun: BTreeMap<Item, Action>,
    lines: Arc<Semaphore>,
    /// When memory was given back last, and what was known then.
    trimmed: (Option<Instant>, u64),
    /// Whether something waits for what another pair has not sent yet.
    pub(super) half: bool,
    /// When it was told what is not sent yet, and what was known then.
    unsent: (Option<Instant>, u64),
    pub(super) stirred_at: Option<Instant>,
    pub(super) settled_at: Option<Instant>,
    pub(super) asked_at: Option<Instant>,
    pub(super) again: Again,
    pub(super) walked_at: Instant,
    /// When the status was written, and of what.
    pub(super) wrote: (Instant, Option<Told>),
    /// So long it is not written again.
    pub(super) wrote_for: Duration,
    /// Told when something happened on the service.
    pub(super) stirs_there: Arc<Notify>,
    /// Whether the service tells it.
    pub(super) tells: Arc<AtomicBool>,
    pub(super) whole: bool,
    /// Whether all here was looked at since it began to run.
    pub(super) scanned: bool,
    /// Whether something was done here that may not be on the disk yet.
    pub(super) landed: bool,
    pub(super) kept_at: Instant,
    pub(super) listed_at: Instant,
    /// In a mounted folder: files whose bytes lie here.
    pub(super) whole_here: HashMap<Object, Item>,
    woken: Option<watch::Receiver<u64>>,
}

impl Running {
    /// Opens a pair that was made before.
    pub async fn open(
        folder: &Path,
        id: &str,
        client: Client,
        shared: Arc<Shared>,
    ) -> Result<Running, Stopped> {
        let mut state = State::open(&file_of(folder, id)).await?;
        let about = state.about().await?;
        let said = |why: std::io::Error| Stopped::Ground { path: about.local.display().to_string(), why };
        let kept = state.pair().await?;
        // On another machine, or a copy of this one, objects are others: all is compared anew, and nothing is removed.
        let moved = about.machine != machine();
        let mut ground = Ground::open(&about.local, &about.id, false).map_err(said)?;
        ground.tells(shared.at_hand.clone());
        ground.sweep().map_err(said)?;
        let object = ground.object().map_err(said)?;
        let timeline = state.timeline().await?.unwrap_or_default();
        let allow = state.take_allowed().await?;
        let same_top = |pair: &Pair| {
            pair.facets(TOP).and_then(|f| f.here.as_ref()).is_some_and(|here| here.object == object)
        };
        let mounted = shared.at_hand.is_some();
        let mut pair = match kept {
            Some(pair) if !moved && same_top(&pair) => as_ordered(pair, &about, mounted),
            _ => new_pair(&about, object, mounted),
        };
        if allow {
            pair.allow();
        }
        let whole = pair.upto().0 > 0;
        // Nobody knows what happened meanwhile.
        pair.try_again();
        let woken = shared.at_hand.as_ref().map(|at_hand| at_hand.woken());
        if let Some(at_hand) = shared.at_hand.as_ref().filter(|_| whole) {
            at_hand.whole(&about.id);
        }
        let hands = Hands {
            client,
            ground: Arc::new(ground),
            show_time: super::show_time,
            moved: Arc::new(AtomicU64::new(0)),
            shared,
        };
        let watch = Watch::new().map_err(|why| match why.raw_os_error() {
            Some(libc::EMFILE) => Stopped::Asks(
                "this account watches as many folders with programs as this system lets it (fs.inotify.max_user_instances): raise that, or end other programs that watch".into(),
            ),
            _ => Stopped::Ground { path: "inotify".into(), why },
        })?;
        let now = Instant::now();
        Ok(Running {
            about,
            folder: folder.to_path_buf(),
            limits: limits::read(folder).unwrap_or_default(),
            state,
            pair,
            timeline,
            hands,
            watch,
            raw: HashMap::new(),
            left: BTreeMap::new(),
            lately: Default::default(),
            refused: HashMap::new(),
            trouble: None,
            in_step_at: None,
            doing: BTreeMap::new(),
            rate: Rate::default(),
            begun: BTreeMap::new(),
            lines: Arc::new(Semaphore::new(LINES)),
            trimmed: (None, u64::MAX),
            unsent: (None, u64::MAX),
            half: false,
            stirred_at: None,
            settled_at: None,
            asked_at: None,
            again: Again::new(now),
            walked_at: now,
            wrote: (now, None),
            wrote_for: Duration::ZERO,
            stirs_there: Arc::new(Notify::new()),
            tells: Arc::new(AtomicBool::new(false)),
            whole,
            scanned: false,
            landed: false,
            kept_at: now,
            listed_at: now,
            whole_here: HashMap::new(),
            woken,
        })
    }

    /// Works until it is told to stop. `once`: or until both sides are the same.
    pub async fn run(mut self, mut orders: Orders, once: bool) -> Result<Status, Stopped> {
        let mut under_way: JoinSet<Vec<(Action, Came)>> = JoinSet::new();
        let listening =
            tokio::spawn(listen(self.hands.client.clone(), self.stirs_there.clone(), self.tells.clone()));
        let _listening = Aborted(listening);
        loop {
            if orders.nudged.has_changed().unwrap_or(false) {
                orders.nudged.mark_unchanged();
                self.read_orders().await?;
            }
            if let Some(rests) = self.rests() {
                self.finish(&mut under_way).await?;
                self.rest(&rests);
                if *orders.stop.borrow() || once {
                    break;
                }
                tokio::select! {
                    _ = orders.stop.changed() => {}
                    _ = orders.nudged.changed() => self.read_orders().await?,
                    () = tokio::time::sleep(REST) => {}
                }
                continue;
            }
            let changes = self.hands.shared.at_hand.as_ref().map_or(0, |at_hand| at_hand.changes());
            self.look_here().await?;
            let heard = self.hear().await;
            let settled = self.settle();
            self.scanned |= settled;
            if heard && self.scanned {
                self.begin(&mut under_way).await?;
            }
            let in_step = heard && under_way.is_empty() && self.pair.is_quiet() && self.trouble.is_none();
            if in_step {
                self.in_step_at = Some(jiff::Timestamp::now().to_string());
            }
            if let Some(at_hand) = self.hands.shared.at_hand.clone().filter(|_| in_step) {
                at_hand.whole(&self.about.id);
                self.owes_nothing();
                at_hand.settles(&self.about.id, changes);
            }
            if in_step || self.kept_at.elapsed() > KEEP {
                self.keep().await?;
            }
            if in_step
                && self.trimmed.1 != self.pair.revision()
                && self.trimmed.0.is_none_or(|at| at.elapsed() > TRIM)
            {
                self.trimmed = (Some(Instant::now()), self.pair.revision());
                crate::syscalls::give_memory_back();
            }
            self.let_go().await;
            self.tell_unsent();
            self.write_status(in_step, false);
            let asks = self.pair.asks().is_some() && under_way.is_empty();
            if *orders.stop.borrow() || once && (in_step || asks) {
                break;
            }
            self.wait(&mut under_way, &mut orders, in_step).await;
        }
        self.finish(&mut under_way).await?;
        self.hands.shared.halves.tell(&self.about.id, Default::default());
        let status = self.status(self.pair.is_quiet() && self.trouble.is_none(), true);
        let _ = status.write(&self.folder);
        self.state.close().await?;
        Ok(status)
    }

    /// What is under way comes to its end, or is decided anew next time.
    async fn finish(&mut self, under_way: &mut JoinSet<Vec<(Action, Came)>>) -> Result<(), Stopped> {
        let patience = Instant::now() + Duration::from_secs(5);
        while let Ok(Some(Ok(all))) = tokio::time::timeout_at(patience.into(), under_way.join_next()).await {
            self.all_came(all);
        }
        // What takes longer is broken off: nobody knows what became of it, and it is decided anew.
        under_way.abort_all();
        while let Some(ended) = under_way.join_next().await {
            if let Ok(all) = ended {
                self.all_came(all);
            }
        }
        for action in std::mem::take(&mut self.begun).into_values() {
            self.came(&action, Outcome::Unknown.into());
        }
        self.keep().await
    }

    /// Tells the other pairs what this one has not sent yet.
    fn tell_unsent(&mut self) {
        let (at, revision) = self.unsent;
        if revision != self.pair.revision() && at.is_none_or(|at| at.elapsed() > STILL) {
            self.unsent = (Some(Instant::now()), self.pair.revision());
            self.hands.shared.halves.tell(&self.about.id, halves::unsent(&self.pair));
        }
    }

    /// Somebody changed what this pair is to do: it is read anew.
    async fn read_orders(&mut self) -> Result<(), Stopped> {
        self.about = self.state.about().await?;
        if self.state.take_allowed().await? {
            self.pair.allow();
        }
        self.pair.set_filter(self.about.filter.clone());
        match limits::read(&self.folder) {
            Ok(limits) => {
                self.hands.shared.set(&limits);
                self.limits = limits;
            }
            Err(why) => self.trouble = Some(Trouble::Disk(why.to_string())),
        }
        Ok(())
    }

    /// Waits for whatever comes first.
    pub(super) async fn wait(
        &mut self,
        under_way: &mut JoinSet<Vec<(Action, Came)>>,
        orders: &mut Orders,
        in_step: bool,
    ) {
        let fd = self.watch.waits();
        let mut nudged = orders.nudged.clone();
        let soon = match (in_step, &self.trouble) {
            (_, Some(_)) => Duration::from_secs(2),
            (true, None) if self.half => HALF,
            (true, None) => self.ask_after(),
            (false, None) => Duration::from_millis(100),
        };
        let soon = soon.min(self.again_after());
        tokio::select! {
            Some(Ok(all)) = under_way.join_next() => {
                self.all_came(all);
                // Others that have come to their end meanwhile are taken with it.
                while let Some(Ok(all)) = under_way.try_join_next() {
                    self.all_came(all);
                }
            }
            ready = fd.readable() => {
                if let Ok(mut ready) = ready {
                    ready.clear_ready();
                }
                // Much comes at once.
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            _ = orders.stop.changed() => {}
            // It is read at the next turn.
            _ = nudged.changed() => orders.nudged.mark_changed(),
            () = self.stirs_there.notified() => self.asked_at = None,
            () = woken(&mut self.woken) => {}
            () = tokio::time::sleep(soon) => {}
        }
    }

    pub(super) async fn begin(
        &mut self,
        under_way: &mut JoinSet<Vec<(Action, Came)>>,
    ) -> Result<(), Stopped> {
        let room = AT_ONCE.saturating_sub(self.begun.len());
        // Much is begun at once: each time what is meant is kept first.
        if room < AT_ONCE / 2 || self.trouble.is_some() && !under_way.is_empty() {
            return Ok(());
        }
        // With trouble, one thing is tried: it tells whether it is over.
        let room = if self.trouble.is_some() { 1 } else { room };
        let time = jiff::Zoned::now().strftime("%Y-%m-%d %H.%M").to_string();
        let mut actions = self.pair.next(room, &time);
        // What another pair has now, and has not sent yet, is not removed before that.
        actions.retain(|action| {
            let Does::RemoveThere { .. } = &action.does else { return true };
            let files = halves::files_of(&self.pair, action.item);
            let waits = self.hands.shared.halves.waits(&self.about.id, &files);
            if waits {
                self.half = true;
                self.pair.ended(action, Outcome::OtherHalf);
            }
            !waits
        });
        if actions.is_empty() {
            self.trouble = self.trouble.take().filter(|t| !matches!(t, Trouble::Disk(_)));
            return Ok(());
        }
        // Known before it is done: a stop in between finds what was meant.
        let meant = |action: &Action| {
            !matches!(action.does, Does::Fetch { .. } | Does::ReadHash(_) | Does::MakeFolderHere(_))
        };
        if actions.iter().any(meant) {
            self.keep().await?;
        }
        let mut tasks = Vec::with_capacity(actions.len());
        for action in actions {
            self.begun.insert(action.item, action.clone());
            let (item, told) = (action.item, self.doing.len() < TOLD);
            let task = self.task(action);
            // What is large is told in any case.
            if told || bytes_of(&task.action) >= LARGE {
                let what = deed(&task.action.does);
                self.doing.insert(item, Doing { what, path: self.path_of(item), gauge: task.gauge.clone() });
            }
            tasks.push(task);
        }
        for lot in together(tasks) {
            let (hands, lines) = (self.hands.clone(), self.lines.clone());
            let counts = if lot.len() > 1 { LOT } else { 1 };
            under_way.spawn(async move {
                let _line = lines.acquire_many_owned(counts).await;
                hands.carry_out_lot(lot).await
            });
        }
        Ok(())
    }

    /// Keeps what is known: of what was brought here only what is on the disk.
    pub(super) async fn keep(&mut self) -> Result<(), Stopped> {
        if std::mem::take(&mut self.landed) {
            let ground = self.hands.ground.clone();
            let synced = tokio::task::spawn_blocking(move || ground.sync()).await;
            if let Ok(Err(why)) = synced {
                self.landed = true;
                self.trouble = Some(Trouble::Disk(why.to_string()));
                return Ok(());
            }
        }
        self.state.keep(&mut self.pair, &self.timeline).await?;
        self.kept_at = Instant::now();
        Ok(())
    }

    pub(super) fn task(&self, action: Action) -> Task {
        let facets = self.pair.facets(action.item);
        let goes = match &action.does {
            Does::MakeFolderHere((folder, _))
            | Does::Fetch { slot: (folder, _), .. }
            | Does::MoveHere { slot: (folder, _), .. }
            | Does::SetAside((folder, _), _) => Some(*folder),
            _ => None,
        };
        let there = facets.and_then(|f| f.there.as_ref());
        let named = there.and_then(|there| {
            let above = self.pair.facets(there.parent)?.there.as_ref()?;
            Some((above.node.0, there.name.clone()))
        });
        let said = format!("{} {} {} {:?}", self.about.id, action.item.0, action.turn, action.does);
        Task {
            way: self.way(action.item),
            object: facets.and_then(|f| f.here.as_ref()).map(|here| here.object),
            above: goes.and_then(|folder| self.way(folder)),
            request: blake3::hash(said.as_bytes()).to_hex()[..32].to_string(),
            named,
            past: self.pair.may_have_been(&action).map(|(node, hash)| (node.0, hash)),
            stub: self.stays_there(&action),
            gauge: Arc::new(Gauge { of: bytes_of(&action).into(), ..Gauge::default() }),
            action,
        }
    }

    fn all_came(&mut self, all: Vec<(Action, Came)>) {
        all.into_iter().for_each(|(action, came)| self.came(&action, came));
    }

    pub(super) fn came(&mut self, action: &Action, came: Came) {
        self.doing.remove(&action.item);
        self.begun.remove(&action.item);
        let mut outcome = came.outcome;
        match &outcome {
            Outcome::OtherwiseThere => {
                self.asked_at = None;
                let times = self.refused.entry(action.item).or_default();
                *times += 1;
                if *times >= PATIENCE {
                    outcome = Outcome::Refused("changed_meanwhile".into());
                }
            }
            Outcome::Unknown => {}
            _ => drop(self.refused.remove(&action.item)),
        }
        match came.trouble {
            Some(trouble) => self.trouble = Some(trouble),
            None if outcome != Outcome::Unknown => self.trouble = None,
            None => {}
        }
        self.landed |= matches!(outcome, Outcome::Here(..) | Outcome::Removed);
        if matches!(outcome, Outcome::Here(..) | Outcome::There(_) | Outcome::Removed) {
            let what = deed(&action.does);
            let path = self.path_of(action.item);
            self.lately.push_front(Deed { at: jiff::Timestamp::now().to_string(), what: what.into(), path });
            self.lately.truncate(LATELY);
        }
        // What was done here stirs its folder as well: that finds it as it is known.
        let before = self.pair.facets(action.item).and_then(|f| f.here.as_ref()).map(|here| here.object);
        self.pair.ended(action, outcome);
        self.owes(action.item, before);
    }

    /// Whether something is done with it just now.
    pub(super) fn begun(&self, item: Item) -> bool {
        self.begun.contains_key(&item)
    }
}

/// Something that is under way.
pub(super) struct Doing {
    pub(super) what: &'static str,
    pub(super) path: String,
    pub(super) gauge: Arc<Gauge>,
}

/// How many bytes an action carries over the line.
fn bytes_of(action: &Action) -> u64 {
    match &action.does {
        Does::Fetch { state, .. } => state.bytes.map_or(0, |(_, size)| size),
        Does::PutNew { stat, .. } | Does::PutOnto { stat, .. } => stat.size,
        _ => 0,
    }
}

/// What names this machine.
pub fn machine() -> String {
    let id = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    blake3::hash(format!("yattic {}", id.trim()).as_bytes()).to_hex()[..16].to_string()
}

/// Ends with whatever holds it.
struct Aborted(tokio::task::JoinHandle<()>);

impl Drop for Aborted {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Waits until a mounted folder wakes its pairs; for ever, if there is none.
async fn woken(woken: &mut Option<watch::Receiver<u64>>) {
    if let Some(woken) = woken
        && woken.changed().await.is_ok()
    {
        return;
    }
    std::future::pending().await
}

/// Hears that something happened on the service; what it was is asked for.
async fn listen(client: Client, stirs: Arc<Notify>, tells: Arc<AtomicBool>) {
    loop {
        if let Ok(events) = client.events().await {
            let mut events = std::pin::pin!(events);
            tells.store(true, Ordering::Relaxed);
            // What happened before it was listened to.
            stirs.notify_one();
            while let Some(Ok(piece)) = events.next().await {
                // A line that begins with a colon only says that it is still there.
                if !piece.starts_with(b":") {
                    stirs.notify_one();
                }
            }
        }
        tells.store(false, Ordering::Relaxed);
        stirs.notify_one();
        tokio::time::sleep(ASK).await;
    }
}
