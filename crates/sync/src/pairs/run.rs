//! A pair at work: what is seen is told to it, what it says is done, what became of that is told to it, and all is kept.

use super::act::{Came, Hands, Task, Trouble, trouble_of};
use super::feed::{self, FeedError};
use super::ground::{Ground, NotDone, Way};
use super::state::{About, State, StateError, file_of};
use super::status::{Deed, Left, Status};
use super::watch::{Heard, Watch};
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use tokio::task::JoinSet;
use yellow_attic_client::Client;
use yellow_attic_core::merge::observe::{Change, Entry};
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Held, Item, Pair, TOP};
use yellow_attic_core::{Name, NodeId};

/// So much is under way at once.
const AT_ONCE: usize = 24;
/// A folder in which something happened is listed after it was still for so long.
const STILL: Duration = Duration::from_millis(250);
/// Or after so long, if it never is.
const RESTLESS: Duration = Duration::from_secs(2);
/// What is known is kept so often while much is brought here.
const KEEP: Duration = Duration::from_millis(500);
/// Something that is missed is believed to be gone after so long.
const MISSED: Duration = Duration::from_millis(1500);
/// The service is asked so often even if it tells nothing.
const ASK: Duration = Duration::from_secs(5);
/// What was refused or busy is tried again after so long.
const AGAIN: Duration = Duration::from_secs(60);
/// Everything is looked at so often, for what no event told.
const WALK: Duration = Duration::from_secs(24 * 3600);
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

/// What joining both for the first time would do.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct Preview {
    /// Equal on both sides: matched, and not carried over.
    pub same: Count,
    /// To be sent to the service.
    pub send: Count,
    /// To be fetched from it.
    pub fetch: Count,
    /// Different under one name: kept twice. They are counted under what is sent and fetched too.
    pub twice: Vec<String>,
    /// Left out, each with its reason.
    pub left: Vec<Left>,
}

/// Files and their bytes.
#[derive(Clone, Copy, Debug, Default, serde::Serialize)]
pub struct Count {
    /// How many.
    pub files: u64,
    /// In bytes.
    pub bytes: u64,
}

/// A pair at work.
pub struct Running {
    about: About,
    folder: PathBuf,
    state: State,
    pair: Pair,
    timeline: String,
    hands: Hands,
    watch: Watch,
    /// Names that the file system has otherwise than the service.
    raw: HashMap<(Item, String), Vec<u8>>,
    /// What lies in folders here and is not kept the same.
    left: BTreeMap<Item, Vec<Left>>,
    lately: std::collections::VecDeque<Deed>,
    refused: HashMap<Item, u32>,
    trouble: Option<Trouble>,
    in_step_at: Option<String>,
    doing: BTreeMap<Item, String>,
    stirred_at: Option<Instant>,
    settled_at: Option<Instant>,
    asked_at: Option<Instant>,
    again_at: Instant,
    walked_at: Instant,
    wrote: (Instant, Option<Status>),
    whole: bool,
    /// Whether all here was looked at since it began to run.
    scanned: bool,
    /// Whether something was done here that may not be on the disk yet.
    landed: bool,
    kept_at: Instant,
    listed_at: Instant,
}

impl Running {
    /// Opens a pair that was made before.
    pub async fn open(folder: &Path, id: &str, client: Client) -> Result<Running, Stopped> {
        let mut state = State::open(&file_of(folder, id)).await?;
        let about = state.about().await?;
        let said = |why: std::io::Error| Stopped::Ground { path: about.local.display().to_string(), why };
        let kept = state.pair().await?;
        // On another machine, or a copy of this one, objects are others: all is compared anew, and nothing is removed.
        let moved = about.machine != machine();
        let ground = Ground::open(&about.local, &about.id, kept.is_none()).map_err(said)?;
        ground.sweep().map_err(said)?;
        let object = ground.object().map_err(said)?;
        let fresh = || Pair::new(&about.device, about.way, NodeId(about.node), object);
        let timeline = state.timeline().await?.unwrap_or_default();
        let allow = state.take_allowed().await?;
        let same_top = |pair: &Pair| {
            pair.facets(TOP).and_then(|f| f.here.as_ref()).is_some_and(|here| here.object == object)
        };
        let mut pair = match kept {
            Some(pair) if !moved && same_top(&pair) => pair,
            _ => fresh(),
        };
        if allow {
            pair.allow();
        }
        let whole = pair.upto().0 > 0;
        let hands = Hands {
            client,
            ground: Arc::new(ground),
            show_time: super::show_time,
            moved: Arc::new(AtomicU64::new(0)),
        };
        let watch = Watch::new().map_err(|why| Stopped::Ground { path: "inotify".into(), why })?;
        let now = Instant::now();
        Ok(Running {
            about,
            folder: folder.to_path_buf(),
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
            stirred_at: None,
            settled_at: None,
            asked_at: None,
            again_at: now,
            walked_at: now,
            wrote: (now, None),
            whole,
            scanned: false,
            landed: false,
            kept_at: now,
            listed_at: now,
        })
    }

    /// Works until it is told to stop. `once`: or until both sides are the same.
    pub async fn run(mut self, mut stop: watch::Receiver<bool>, once: bool) -> Result<Status, Stopped> {
        let mut under_way: JoinSet<(Action, Came)> = JoinSet::new();
        loop {
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
            if in_step || self.kept_at.elapsed() > KEEP {
                self.keep().await?;
            }
            self.write_status(in_step, false);
            if self.pair.asks().is_some() && self.state.take_allowed().await? {
                self.pair.allow();
                continue;
            }
            let asks = self.pair.asks().is_some() && under_way.is_empty();
            if *stop.borrow() || once && (in_step || asks) {
                break;
            }
            self.wait(&mut under_way, &mut stop, in_step).await;
        }
        // What is under way comes to its end, or is decided anew next time.
        let patience = Instant::now() + Duration::from_secs(5);
        while let Ok(Some(Ok((action, came)))) =
            tokio::time::timeout_at(patience.into(), under_way.join_next()).await
        {
            self.came(&action, came);
        }
        under_way.abort_all();
        self.keep().await?;
        let status = self.status(self.pair.is_quiet() && self.trouble.is_none(), true);
        let _ = status.write(&self.folder);
        self.state.close().await?;
        Ok(status)
    }

    /// What joining both for the first time would do: nothing is done but reading.
    pub async fn preview(mut self) -> Result<Preview, Stopped> {
        let mut twice = Vec::new();
        let mut quiet = 0;
        while quiet < 3 {
            self.stirred_at = None;
            self.look_here().await?;
            if !self.hear().await {
                return Err(Stopped::Asks(
                    self.trouble.map_or("the service does not answer".into(), |t| t.words()),
                ));
            }
            self.settle();
            let actions = self.pair.next(AT_ONCE, "preview");
            quiet = if actions.is_empty() { quiet + 1 } else { 0 };
            for action in actions {
                if let Does::MoveHere { follows: false, .. } | Does::SetAside(..) = &action.does {
                    twice.push(self.path_of(action.item));
                }
                if matches!(action.does, Does::ReadHash(_)) {
                    let task = self.task(action);
                    let came = self.hands.carry_out(&task).await;
                    self.came(&task.action, came);
                }
            }
        }
        let mut preview =
            Preview { twice, left: self.left.into_values().flatten().collect(), ..Preview::default() };
        for (_, facets) in self.pair.items().filter(|(item, _)| *item != TOP) {
            let count = match (&facets.here, &facets.there) {
                (Some(_), Some(_)) => &mut preview.same,
                (Some(_), None) => &mut preview.send,
                _ => &mut preview.fetch,
            };
            let here = facets.here.as_ref().and_then(|here| here.stat).map(|stat| stat.size);
            let there = facets.there.as_ref().and_then(|there| there.bytes).map(|(_, size)| size);
            if let Some(size) = here.or(there) {
                count.files += 1;
                count.bytes += size;
            }
        }
        Ok(preview)
    }

    /// Waits for whatever comes first.
    async fn wait(
        &mut self,
        under_way: &mut JoinSet<(Action, Came)>,
        stop: &mut watch::Receiver<bool>,
        in_step: bool,
    ) {
        let fd = self.watch.waits();
        let soon = match (in_step, &self.trouble) {
            (_, Some(_)) => Duration::from_secs(2),
            (true, None) => ASK,
            (false, None) => Duration::from_millis(100),
        };
        tokio::select! {
            Some(Ok((action, came))) = under_way.join_next() => {
                self.came(&action, came);
                // Others that have come to their end meanwhile are taken with it.
                while let Some(Ok((action, came))) = under_way.try_join_next() {
                    self.came(&action, came);
                }
            }
            ready = fd.readable() => {
                if let Ok(mut ready) = ready {
                    ready.clear_ready();
                }
                // Much comes at once.
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            _ = stop.changed() => {}
            () = tokio::time::sleep(soon) => {}
        }
    }

    // --- here ---

    fn way(&self, item: Item) -> Option<Way> {
        let (mut way, mut next) = (Vec::new(), item);
        while next != TOP {
            let here = self.pair.facets(next)?.here.as_ref()?;
            let slot = (here.parent, here.name.clone());
            way.push(self.raw.get(&slot).cloned().unwrap_or_else(|| here.name.clone().into_bytes()));
            next = here.parent;
            if way.len() > 1000 {
                return None;
            }
        }
        way.reverse();
        Some(way)
    }

    async fn look_here(&mut self) -> Result<(), Stopped> {
        for heard in self.watch.heard() {
            self.stirred_at = Some(Instant::now());
            match heard {
                Heard::Stirred(object) => {
                    if let Some(item) = self.pair.folder_of(object) {
                        self.pair.stirred(item);
                    }
                }
                Heard::Anything => self.walk(),
            }
        }
        if self.walked_at.elapsed() > WALK {
            self.walk();
        }
        if self.again_at.elapsed() > AGAIN {
            self.again_at = Instant::now();
            self.refused.clear();
            self.pair.try_again();
        }
        // While somebody writes without a pause, it is looked at all the same, now and then.
        if self.stirred_at.is_some_and(|at| at.elapsed() < STILL) && self.listed_at.elapsed() < RESTLESS {
            return Ok(());
        }
        self.listed_at = Instant::now();
        loop {
            let unlisted = self.pair.unlisted();
            if unlisted.is_empty() {
                return Ok(());
            }
            for item in unlisted {
                self.list(item).await?;
            }
        }
    }

    fn walk(&mut self) {
        self.walked_at = Instant::now();
        let all: Vec<Item> = self.pair.items().map(|(item, _)| item).collect();
        all.into_iter().for_each(|item| self.pair.stirred(item));
    }

    async fn list(&mut self, item: Item) -> Result<(), Stopped> {
        let Some(way) = self.way(item) else {
            self.pair.listed(item, Vec::new());
            return Ok(());
        };
        let object = self.pair.facets(item).and_then(|f| f.here.as_ref()).map(|here| here.object);
        let ground = self.hands.ground.clone();
        let its = way.clone();
        let listed = tokio::task::spawn_blocking(move || {
            let folder = ground.open_folder(&its)?;
            Ok::<_, NotDone>(folder)
        })
        .await;
        match listed {
            Ok(Ok(folder)) => object.into_iter().for_each(|object| self.watch.add(object, &folder)),
            _ => object.into_iter().for_each(|object| self.watch.drop(object)),
        }
        let ground = self.hands.ground.clone();
        let its = way.clone();
        let listed = tokio::task::spawn_blocking(move || ground.list(&its)).await;
        let found = match listed {
            Ok(Ok((is, found))) if Some(is) == object => found,
            // The top is not what it was: its disk is gone, or somebody made it anew. Nothing is concluded from that.
            Ok(Ok(_) | Err(NotDone::Otherwise)) if item == TOP => {
                return Err(Stopped::Asks(format!(
                    "{} is not the folder that it was: its disk may not be mounted. Nothing was changed; run again when it is back.",
                    self.about.local.display()
                )));
            }
            Ok(Ok(_) | Err(NotDone::Otherwise)) => {
                // Its folder says what became of it.
                if let Some(here) = self.pair.facets(item).and_then(|f| f.here.as_ref()) {
                    let parent = here.parent;
                    self.pair.stirred(parent);
                }
                object.into_iter().for_each(|object| self.watch.drop(object));
                self.pair.listed(item, Vec::new());
                return Ok(());
            }
            Ok(Err(NotDone::Failed(why))) => {
                // What cannot be read is not gone.
                self.left.insert(
                    item,
                    vec![Left {
                        path: shown(&way),
                        why: format!(
                            "the folder cannot be read ({why}); what is in it is left alone until it can be"
                        ),
                    }],
                );
                self.trouble = Some(Trouble::Disk(format!("{}: {why}", shown(&way))));
                self.pair.stirred(item);
                return Ok(());
            }
            _ => return Ok(()),
        };
        let (mut entries, mut left) = (BTreeMap::<String, Entry>::new(), Vec::new());
        self.raw.retain(|(folder, _), _| *folder != item);
        for one in found {
            let mut full = way.clone();
            full.push(one.name.clone());
            let leave = |why: &str| Left { path: shown(&full), why: why.to_string() };
            let Some((object, stat)) = one.is else {
                left.push(leave("a link, a pipe, a device, or on another disk: it stays as it is"));
                continue;
            };
            let name = std::str::from_utf8(&one.name).ok().map(Name::normalised);
            let name = match name {
                Some(Ok(name)) => name.as_str().to_string(),
                Some(Err(why)) => {
                    left.push(leave(&format!("{why}. {}", why.remedy())));
                    continue;
                }
                None => {
                    left.push(leave("its name is not UTF-8: give it another one"));
                    continue;
                }
            };
            if entries.contains_key(&name) {
                left.push(leave("another file has the same name in another spelling: rename one of them"));
                continue;
            }
            if name.as_bytes() != one.name {
                self.raw.insert((item, name.clone()), one.name);
            }
            entries.insert(name.clone(), Entry { name, object, stat });
        }
        match left.is_empty() {
            true => drop(self.left.remove(&item)),
            false => drop(self.left.insert(item, left)),
        }
        self.pair.listed(item, entries.into_values().collect());
        Ok(())
    }

    /// Decides what became of what is missed, when all has been still for a while. Whether it is decided.
    fn settle(&mut self) -> bool {
        if !self.pair.unlisted().is_empty() {
            return false;
        }
        if self.pair.misses() && self.settled_at.is_some_and(|at| at.elapsed() < MISSED) {
            return true;
        }
        self.settled_at = Some(Instant::now());
        self.pair.settle()
    }

    // --- there ---

    /// Hears what the service tells. Whether all that it had to tell is known.
    async fn hear(&mut self) -> bool {
        let due = self.asked_at.is_none_or(|at| at.elapsed() >= ASK || self.pair.waits_for_service())
            || !self.pair.unexpanded().is_empty();
        let soon = self.asked_at.is_some_and(|at| at.elapsed() < Duration::from_millis(200));
        if self.whole && (!due || soon) {
            return self.trouble.is_none()
                || !matches!(self.trouble, Some(Trouble::Away(_) | Trouble::Shut(_)));
        }
        match self.try_hear().await {
            Ok(()) => {
                self.asked_at = Some(Instant::now());
                if matches!(self.trouble, Some(Trouble::Away(_) | Trouble::Shut(_))) {
                    self.trouble = None;
                }
                true
            }
            Err(FeedError::OtherTimeline) => {
                // Ids name other things now: compared by paths and bytes, and nothing is removed.
                let object = self.pair.facets(TOP).and_then(|f| f.here.as_ref()).map(|here| here.object);
                self.pair = Pair::new(
                    &self.about.device,
                    self.about.way,
                    NodeId(self.about.node),
                    object.unwrap_or_default(),
                );
                self.whole = false;
                false
            }
            Err(FeedError::Forgotten) => {
                self.whole = false;
                false
            }
            Err(FeedError::Service(error)) => {
                self.trouble = Some(trouble_of(&error).unwrap_or(Trouble::Away(error.to_string())));
                false
            }
        }
    }

    async fn try_hear(&mut self) -> Result<(), FeedError> {
        let client = self.hands.client.clone();
        if !self.whole {
            let tree = feed::tree(&client, self.about.node).await?;
            if !self.timeline.is_empty() && self.timeline != tree.timeline && self.pair.upto().0 > 0 {
                self.timeline = tree.timeline;
                return Err(FeedError::OtherTimeline);
            }
            self.timeline = tree.timeline;
            self.pair.told_all(tree.nodes, tree.moment);
            self.whole = true;
        }
        loop {
            let told = feed::changes(&client, self.about.shelf, self.pair.upto(), &self.timeline).await?;
            let top = NodeId(self.about.node);
            if told
                .changes
                .iter()
                .any(|c| matches!(c, Change::Gone(node, _) | Change::OutOfSight(node, _) if *node == top))
            {
                return Err(FeedError::Service(yellow_attic_client::Error::Strange(
                    "the folder of this pair is gone, or may not be seen any more; nothing here is touched"
                        .into(),
                )));
            }
            let (upto, more) = (told.upto, told.more);
            self.pair.told(told.changes, upto);
            while let Some(folder) = self.pair.unexpanded().pop() {
                match feed::tree(&client, folder.0).await {
                    Ok(tree) => self.pair.told_beneath(folder, tree.nodes),
                    // It went meanwhile: its change is told next.
                    Err(e) if e.code() == Some("not_found") => {
                        let item = self.pair.of_node(folder).and_then(|item| self.pair.facets(item));
                        let known = item.and_then(|f| f.there.as_ref()).map(|there| there.moment);
                        let upto = self.pair.upto();
                        let moment = known.map_or(upto, |known| known.max(upto));
                        self.pair.told(vec![Change::Gone(folder, moment)], upto);
                    }
                    Err(e) => return Err(e.into()),
                }
            }
            if !more {
                return Ok(());
            }
        }
    }

    // --- doing ---

    async fn begin(&mut self, under_way: &mut JoinSet<(Action, Came)>) -> Result<(), Stopped> {
        let room = AT_ONCE.saturating_sub(under_way.len());
        if room == 0 || self.trouble.is_some() && !under_way.is_empty() {
            return Ok(());
        }
        // With trouble, one thing is tried: it tells whether it is over.
        let room = if self.trouble.is_some() { 1 } else { room };
        let time = jiff::Zoned::now().strftime("%Y-%m-%d %H.%M").to_string();
        let actions = self.pair.next(room, &time);
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
        for action in actions {
            self.doing.insert(action.item, self.told(&action));
            let (hands, task) = (self.hands.clone(), self.task(action));
            under_way.spawn(async move {
                let came = hands.carry_out(&task).await;
                (task.action, came)
            });
        }
        Ok(())
    }

    /// Keeps what is known: of what was brought here only what is on the disk.
    async fn keep(&mut self) -> Result<(), Stopped> {
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

    fn task(&self, action: Action) -> Task {
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
            action,
        }
    }

    fn came(&mut self, action: &Action, came: Came) {
        self.doing.remove(&action.item);
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
        self.pair.ended(action, outcome);
    }

    fn path_of(&self, item: Item) -> String {
        if let Some(path) = self.pair.path_here(item).filter(|path| !path.is_empty()) {
            return path.join("/");
        }
        let (mut path, mut next) = (Vec::new(), item);
        while let Some(there) = self.pair.facets(next).and_then(|f| f.there.as_ref()).filter(|_| next != TOP)
        {
            path.push(there.name.clone());
            next = there.parent;
            if path.len() > 1000 {
                break;
            }
        }
        path.reverse();
        path.join("/")
    }

    fn told(&self, action: &Action) -> String {
        format!("{} {}", deed(&action.does), self.path_of(action.item))
    }

    // --- telling ---

    fn status(&self, in_step: bool, stopped: bool) -> Status {
        let mut status = Status {
            id: self.about.id.clone(),
            local: self.about.local.display().to_string(),
            remote: self.about.remote.clone(),
            moved: self.hands.moved.load(Ordering::Relaxed),
            doing: self.doing.values().cloned().collect(),
            lately: self.lately.iter().cloned().collect(),
            in_step_at: self.in_step_at.clone(),
            at: jiff::Timestamp::now().to_string(),
            process: if stopped { 0 } else { std::process::id() },
            trouble: self.trouble.as_ref().map(Trouble::words).or_else(|| self.asks()),
            ..Status::default()
        };
        for (item, facets) in self.pair.items().filter(|(item, _)| *item != TOP) {
            let both = facets.here.is_some() && facets.there.is_some() && facets.common.is_some();
            status.same += u64::from(both && facets.held.is_none());
            status.to_do += u64::from(!both && facets.held.is_none());
            if let Some(why) = &facets.held {
                status.left.push(Left { path: self.path_of(item), why: held(why) });
            }
            let name = facets.here.as_ref().map(|here| here.name.as_str()).unwrap_or_default();
            if name.contains(&format!(" ({}, ", self.about.device)) {
                status.copies.push(self.path_of(item));
            }
        }
        status.left.extend(self.left.values().flatten().cloned());
        status.state = match (&status.trouble, in_step, stopped) {
            (Some(_), _, _) => "trouble",
            (None, true, false) => "in_step",
            (None, _, true) => "stopped",
            (None, false, _) => "working",
        }
        .into();
        status
    }

    /// What a person has to decide.
    fn asks(&self) -> Option<String> {
        let mass = self.pair.asks()?;
        let (many, where_from, where_to) = match mass.there >= mass.here {
            true => (mass.there, "here", "on the service"),
            false => (mass.here, "on the service", "here"),
        };
        Some(format!(
            "{many} of {} files were removed {where_from}, and are not removed {where_to} before you say so: yattic sync allow. Or bring them back.",
            mass.of
        ))
    }

    fn write_status(&mut self, in_step: bool, stopped: bool) {
        if self.wrote.0.elapsed() < Duration::from_millis(500) && self.wrote.1.is_some() && !in_step {
            return;
        }
        let mut status = self.status(in_step, stopped);
        let same = self.wrote.1.as_ref().is_some_and(|old| {
            let (at, since) = (old.at.clone(), old.in_step_at.clone());
            (status.at, status.in_step_at) = (at, since);
            status == *old
        });
        if !same || self.wrote.0.elapsed() > Duration::from_secs(30) {
            status.at = jiff::Timestamp::now().to_string();
            status.in_step_at = self.in_step_at.clone();
            if let Err(error) = status.write(&self.folder) {
                self.trouble = Some(Trouble::Disk(error.to_string()));
            }
            self.wrote = (Instant::now(), Some(status));
        }
    }
}

fn deed(does: &Does) -> &'static str {
    match does {
        Does::ReadHash(_) => "reads",
        Does::MakeFolderHere(_) => "makes here",
        Does::Fetch { .. } => "fetches",
        Does::MoveHere { .. } => "moves here",
        Does::SetAside(..) => "keeps beside",
        Does::RemoveHere(_) => "removes here",
        Does::MarkHere(..) => "marks here",
        Does::MakeFolderThere { .. } => "makes there",
        Does::PutNew { .. } | Does::PutOnto { .. } => "sends",
        Does::Revive { .. } => "brings back",
        Does::MoveThere(_) => "moves there",
        Does::RemoveThere { .. } => "removes there",
        Does::MarkThere { .. } => "marks there",
    }
}

fn held(why: &Held) -> String {
    match why {
        Held::OutOfSight => "you may see it no more on the service; what lies here stays".into(),
        Held::Refused(code) => format!("the service refuses it ({code}); it is tried again"),
        Held::NotHere(why) => format!("this computer cannot hold it: {why}"),
        Held::OtherWay => "this pair only goes the other way".into(),
        Held::Busy => "it is being written to".into(),
    }
}

fn shown(way: &[Vec<u8>]) -> String {
    way.iter().map(|part| String::from_utf8_lossy(part).into_owned()).collect::<Vec<_>>().join("/")
}

/// What names this machine.
pub fn machine() -> String {
    let id = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    blake3::hash(format!("yattic {}", id.trim()).as_bytes()).to_hex()[..16].to_string()
}
