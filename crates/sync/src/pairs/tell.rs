//! What a pair at work says of itself.

use super::act::Trouble;
use super::run::{Doing, Running};
use super::status::{self, Left, Status};
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use yellow_attic_core::merge::filter::Why;
use yellow_attic_core::merge::names::original_of;
use yellow_attic_core::merge::plan::Does;
use yellow_attic_core::merge::{Held, Item, TOP};
use yellow_attic_core::size::human;

impl Running {
    pub(super) fn path_of(&self, item: Item) -> String {
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

    pub(super) fn status(&mut self, in_step: bool, stopped: bool) -> Status {
        let mut status = Status {
            id: self.about.id.clone(),
            local: self.about.local.display().to_string(),
            remote: self.about.remote.clone(),
            moved: self.hands.moved.load(Ordering::Relaxed),
            rate: if in_step || stopped {
                0
            } else {
                self.rate.now(self.hands.moved.load(Ordering::Relaxed))
            },
            doing: self.doing.values().take(SHOWN).map(shown).collect(),
            lately: self.lately.iter().cloned().collect(),
            in_step_at: self.in_step_at.clone(),
            at: jiff::Timestamp::now().to_string(),
            process: if stopped { 0 } else { std::process::id() },
            needs: self.trouble.as_ref().map_or(self.pair.asks().is_some(), Trouble::needs_somebody),
            trouble: self.trouble.as_ref().map(Trouble::words).or_else(|| self.asks()),
            ..Status::default()
        };
        for (item, facets) in self.pair.items().filter(|(item, _)| *item != TOP) {
            let same = self.pair.is_same(item);
            status.same += u64::from(same && facets.held.is_none());
            if !same && facets.held.is_none() {
                status.to_do += 1;
                let here = facets.here.as_ref().and_then(|here| here.stat).map_or(0, |stat| stat.size);
                let there = facets.there.as_ref().and_then(|there| there.bytes).map_or(0, |(_, size)| size);
                status.to_move += here.max(there);
            }
            if let Some(Held::Left(why)) = &facets.held
                && *why != Why::InTheWay
            {
                status.out += u64::from(!facets.is_folder());
            } else if let Some(why) = &facets.held {
                status.left.push(Left { path: self.path_of(item), why: held(why) });
            }
            let name = facets.here.as_ref().map(|here| here.name.as_str()).unwrap_or_default();
            // Whichever computer made it: any may settle it.
            if facets.here.as_ref().is_some_and(|here| here.stat.is_some()) && original_of(name).is_some() {
                status.copies.push(self.path_of(item));
            }
        }
        let arrived: u64 = status.doing.iter().map(|doing| doing.done).sum();
        status.to_move = status.to_move.saturating_sub(arrived);
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

    /// Says that nothing is carried for now.
    pub(super) fn rest(&mut self, why: &str) {
        let mut status = self.status(false, false);
        (status.state, status.rests) = ("paused".into(), Some(why.into()));
        if let Err(error) = status.write(&self.folder) {
            self.trouble = Some(Trouble::Disk(error.to_string()));
        }
        // What is said next is said at once.
        self.wrote.1 = None;
    }

    /// What a person has to decide.
    pub(super) fn asks(&self) -> Option<String> {
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

    pub(super) fn write_status(&mut self, in_step: bool, stopped: bool) {
        // Nothing new is told twice, but it is told now and then that it still runs.
        let moved = self.hands.moved.load(Ordering::Relaxed);
        let now = (self.pair.revision(), self.trouble.clone(), self.doing.len(), moved, in_step);
        let (at, told) = &self.wrote;
        let same = told.as_ref() == Some(&now);
        // Counting what is known may take no more than a small part of the time.
        let soon = at.elapsed() < self.wrote_for.max(OFTEN) && told.as_ref().is_some_and(|t| t.4 == in_step);
        if same && at.elapsed() < Duration::from_secs(30) || soon {
            return;
        }
        let begun = Instant::now();
        let status = self.status(in_step, stopped);
        if let Some(at_hand) = &self.hands.shared.at_hand {
            at_hand.tells(&status);
        }
        if let Err(error) = status.write(&self.folder) {
            self.trouble = Some(Trouble::Disk(error.to_string()));
        }
        self.wrote = (Instant::now(), Some(now));
        self.wrote_for = (begun.elapsed() * PART).min(SELDOM);
    }
}

/// What is being done is told so often at most,
const OFTEN: Duration = Duration::from_millis(500);
/// and so often at least while something new is to be told.
const SELDOM: Duration = Duration::from_secs(5);
/// Telling it takes such a part of the time at most.
const PART: u32 = 40;
/// So much of what is under way is told.
const SHOWN: usize = 50;
/// A rate is over so long at least.
const OVER: Duration = Duration::from_secs(2);

/// How fast bytes go.
#[derive(Default)]
pub(super) struct Rate {
    since: Option<(Instant, u64)>,
    rate: u64,
}

impl Rate {
    /// In bytes a second, when so many were moved in all.
    fn now(&mut self, moved: u64) -> u64 {
        match self.since {
            Some((at, _)) if at.elapsed() < OVER => {}
            Some((at, before)) => {
                self.rate = (moved.saturating_sub(before) as f64 / at.elapsed().as_secs_f64()) as u64;
                self.since = Some((Instant::now(), moved));
            }
            None => self.since = Some((Instant::now(), moved)),
        }
        self.rate
    }
}

fn shown(doing: &Doing) -> status::Doing {
    let of = doing.gauge.of.load(Ordering::Relaxed);
    status::Doing {
        what: doing.what.into(),
        path: doing.path.clone(),
        done: doing.gauge.done.load(Ordering::Relaxed).min(of),
        of,
    }
}

pub(super) fn deed(does: &Does) -> &'static str {
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

/// Why nothing is done with something, as people read it.
pub fn held(why: &Held) -> String {
    match why {
        Held::OutOfSight => "you may see it no more on the service; what lies here stays".into(),
        Held::Refused(code) if code == "not_at_hand" => {
            "its bytes were never fetched, and the service has them no more: look for an earlier state, or remove it".into()
        }
        Held::Refused(code) => refused(code),
        Held::NotHere(why) => format!("this computer cannot hold it: {why}"),
        Held::OtherWay => "this pair only goes the other way".into(),
        Held::OtherHalf => {
            "it is gone here, and is removed on the service when another pair has sent what may be the same file".into()
        }
        Held::Busy => "it is being written to".into(),
        Held::Left(why) => left_out(why),
        Held::Copies => {
            "it was kept twice five times within this hour, because it is changed elsewhere as well: yattic sync allow goes on at once, else it goes on with the next hour"
                .into()
        }
        Held::RolledBack => {
            "it was rolled back on the service while it was changed here: yattic sync allow carries what is here there, beside that"
                .into()
        }
    }
}

/// What the service refuses, by its code: what that is, and what helps.
fn refused(code: &str) -> String {
    let kind = yellow_attic_api::refusals::ALL.iter().find(|kind| kind.code == code);
    let (title, remedy) = kind.map_or(("", ""), |kind| (kind.title, kind.remedy));
    let title = match title {
        "" | "Refused" | "The request is malformed" => String::new(),
        title => format!(": {}{}", title[..1].to_lowercase(), &title[1..]),
    };
    let remedy = if remedy.is_empty() { String::new() } else { format!(" {remedy}") };
    format!("the service refuses it{title} ({code}); it is tried again.{remedy}")
}

/// Why something is left out, as people read it.
pub fn left_out(why: &Why) -> String {
    match why {
        Why::NotChosen => "its folder is not chosen for this pair".into(),
        Why::Named(pattern) => format!("it is named like \"{pattern}\", which this pair leaves out"),
        Why::Larger(bytes) => format!("it has more than {}", human(*bytes)),
        Why::InTheWay => "something that this pair leaves out has its name here".into(),
    }
}
