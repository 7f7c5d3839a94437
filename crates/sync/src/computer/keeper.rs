//! Keeps all pairs of this computer at work: those that are added while it runs too, and those that had to stop, when what
//! stopped them may be over.

use super::{Computer, Done, Refused};
use crate::pairs::run::{Orders, Running};
use crate::pairs::state::About;
use crate::pairs::status::Status;
use crate::pairs::{Shared, limits};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// A pair that had to stop is begun again after so long.
const AGAIN: Duration = Duration::from_secs(20);
/// A pair is given so long to come to its end.
const ENDING: Duration = Duration::from_secs(15);

/// A pair that is kept at work.
struct Kept {
    about: About,
    stop: watch::Sender<bool>,
    task: JoinHandle<()>,
}

/// All of them.
pub struct Keeper {
    /// Whose they are.
    pub computer: Computer,
    /// How fast, and what goes from one to another.
    pub shared: Arc<Shared>,
    nudges: watch::Sender<u64>,
    kept: Mutex<BTreeMap<String, Kept>>,
    /// One at a time begins and ends pairs.
    turn: tokio::sync::Mutex<bool>,
}

impl Keeper {
    /// Keeps none yet.
    pub fn new(computer: Computer) -> Done<Arc<Keeper>> {
        Keeper::with(computer, Arc::default())
    }

    /// The same, for what these have together.
    pub fn with(computer: Computer, shared: Arc<Shared>) -> Done<Arc<Keeper>> {
        crate::syscalls::share_memory();
        shared.set(&limits::read(&computer.folder)?);
        let (nudges, _) = watch::channel(0);
        Ok(Arc::new(Keeper { computer, shared, nudges, kept: Mutex::default(), turn: Default::default() }))
    }

    /// The pairs that are at work.
    pub fn pairs(&self) -> Vec<About> {
        self.kept.lock().values().map(|kept| kept.about.clone()).collect()
    }

    /// Reads anew what is to be done: pairs that are new begin, and the others hear of it.
    pub async fn look(&self) -> Done<()> {
        let over = self.turn.lock().await;
        if *over {
            return Ok(());
        }
        let pairs = self.computer.pairs().await?;
        let mut kept = self.kept.lock();
        for about in pairs {
            match kept.get_mut(&about.id) {
                Some(kept) => kept.about = about,
                None => drop(kept.insert(about.id.clone(), self.begin(about))),
            }
        }
        drop(kept);
        self.nudges.send_modify(|n| *n += 1);
        Ok(())
    }

    fn begin(&self, about: About) -> Kept {
        let (stop, stopped) = watch::channel(false);
        let orders = Orders { stop: stopped, nudged: self.nudges.subscribe() };
        let (computer, shared, its) = (self.computer.clone(), self.shared.clone(), about.clone());
        Kept { about, stop, task: tokio::spawn(keep(computer, its, shared, orders)) }
    }

    /// Ends a pair. The files on both sides stay as they are.
    pub async fn end(&self, id: &str) -> Done<()> {
        let _turn = self.turn.lock().await;
        let kept = self.kept.lock().remove(id);
        let about = match kept {
            Some(kept) => {
                stop(kept).await?;
                self.computer.pair(id).await?
            }
            None => self.computer.pair(id).await?,
        };
        self.shared.halves.tell(id, Default::default());
        self.computer.forget(&about)
    }

    /// All come to their end, and no other begins.
    pub async fn stop(&self) {
        let mut over = self.turn.lock().await;
        *over = true;
        let all = std::mem::take(&mut *self.kept.lock());
        for kept in all.values() {
            let _ = kept.stop.send(true);
        }
        for kept in all.into_values() {
            let _ = stop(kept).await;
        }
    }
}

async fn stop(mut kept: Kept) -> Done<()> {
    let _ = kept.stop.send(true);
    if tokio::time::timeout(ENDING, &mut kept.task).await.is_err() {
        // What it was about is decided anew when it begins again.
        kept.task.abort();
        let _ = kept.task.await;
    }
    Ok(())
}

/// Keeps one pair at work until it is told to stop.
async fn keep(computer: Computer, about: About, shared: Arc<Shared>, orders: Orders) {
    loop {
        let why = match work(&computer, &about, &shared, &orders).await {
            Ok(()) => return,
            Err(why) => why,
        };
        say(&computer, &about, &why);
        let (mut stop, mut nudged) = (orders.stop.clone(), orders.nudged.clone());
        nudged.mark_unchanged();
        tokio::select! {
            _ = stop.wait_for(|stop| *stop) => return,
            _ = nudged.changed() => {}
            () = tokio::time::sleep(AGAIN) => {}
        }
    }
}

async fn work(computer: &Computer, about: &About, shared: &Arc<Shared>, orders: &Orders) -> Done<()> {
    if *orders.stop.borrow() {
        return Ok(());
    }
    let client = computer.client(&about.service).await?;
    let running = Running::open(&computer.folder, &about.id, client, shared.clone()).await?;
    running.run(orders.clone(), false).await?;
    Ok(())
}

/// Tells whoever looks why a pair does not work.
fn say(computer: &Computer, about: &About, why: &Refused) {
    let remedy = match why.remedy.as_str() {
        "" | "Nothing was changed." => String::new(),
        remedy => format!(". {remedy}"),
    };
    let before = computer.status(about).unwrap_or_default();
    let status = Status {
        state: "trouble".into(),
        trouble: Some(format!("{}{remedy}", why.says)),
        needs: why.code != "service_away",
        doing: Vec::new(),
        rate: 0,
        at: jiff::Timestamp::now().to_string(),
        process: std::process::id(),
        ..before
    };
    if let Err(error) = status.write(&computer.folder) {
        eprintln!(
            "yattic: {}: {}; and that cannot be written down: {error}",
            about.local.display(),
            why.says
        );
    }
}
