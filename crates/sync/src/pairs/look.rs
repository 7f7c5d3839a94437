//! What a pair at work sees: what stirs here, what the service tells.

use super::act::{Trouble, trouble_of};
use super::feed::{self, FeedError};
use super::ground::{Found, NotDone, Way};
use super::new_pair;
use super::run::{MISSED, RESTLESS, Running, STILL, Stopped, WALK};
use super::status::{Left, shown};
use super::watch::Heard;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};
use yellow_attic_core::merge::observe::{Change, Entry};
use yellow_attic_core::merge::{Item, Object, TOP};
use yellow_attic_core::{Name, NodeId};

/// So many folders are listed together.
const TOGETHER: usize = 64;

impl Running {
    pub(super) fn way(&self, item: Item) -> Option<Way> {
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

    pub(super) async fn look_here(&mut self) -> Result<(), Stopped> {
        for heard in self.watch.heard() {
            self.stirred_at = Some(Instant::now());
            match heard {
                Heard::Stirred { folder: object, .. } => {
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
        self.try_again();
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
            for some in unlisted.chunks(TOGETHER) {
                self.list(some).await?;
            }
        }
    }

    pub(super) fn walk(&mut self) {
        self.walked_at = Instant::now();
        let all: Vec<Item> = self.pair.items().map(|(item, _)| item).collect();
        all.into_iter().for_each(|item| self.pair.stirred(item));
    }

    /// Lists folders: each is watched before what is in it is read.
    async fn list(&mut self, items: &[Item]) -> Result<(), Stopped> {
        let mut wanted = Vec::with_capacity(items.len());
        for item in items {
            match self.way(*item) {
                Some(way) => {
                    let here = self.pair.facets(*item).and_then(|f| f.here.as_ref());
                    wanted.push((*item, way, here.map(|here| here.object)));
                }
                None => self.pair.listed(*item, Vec::new()),
            }
        }
        let ground = self.hands.ground.clone();
        let opened = tokio::task::spawn_blocking(move || {
            let open = |one: (Item, Way, Option<Object>)| {
                let dir = ground.open_folder(&one.1, one.2);
                (one, dir)
            };
            wanted.into_iter().map(open).collect::<Vec<_>>()
        });
        let Ok(opened) = opened.await else { return Ok(()) };
        // A folder that was moved is missed in one place and found in another: what is found is watched in the end.
        let missed = opened.iter().filter(|(_, dir)| dir.is_err());
        missed.filter_map(|((_, _, object), _)| *object).for_each(|object| self.watch.drop(object));
        for ((_, _, object), dir) in &opened {
            if let (Some(object), Ok(dir)) = (object, dir) {
                self.watch.add(*object, dir);
            }
        }
        let ground = self.hands.ground.clone();
        let listed = tokio::task::spawn_blocking(move || {
            let list = |(one, dir): ((Item, Way, Option<Object>), Result<_, NotDone>)| {
                let found = dir.and_then(|dir| ground.list(&dir, one.1.is_empty()));
                (one, found)
            };
            opened.into_iter().map(list).collect::<Vec<_>>()
        });
        for ((item, way, object), found) in listed.await.unwrap_or_default() {
            self.took(item, way, object, found)?;
        }
        Ok(())
    }

    /// Takes what a folder holds.
    fn took(
        &mut self,
        item: Item,
        way: Way,
        object: Option<Object>,
        listed: Result<(Object, Vec<Found>), NotDone>,
    ) -> Result<(), Stopped> {
        let found = match listed {
            Ok((is, found)) if Some(is) == object => found,
            // The top is not what it was: its disk is gone, or somebody made it anew. Nothing is concluded from that.
            Ok(_) | Err(NotDone::Otherwise) if item == TOP => {
                return Err(Stopped::Asks(format!(
                    "{} is not the folder that it was: its disk may not be mounted. Nothing was changed; run again when it is back.",
                    self.about.local.display()
                )));
            }
            Ok(_) | Err(NotDone::Otherwise) => {
                // Its folder says what became of it.
                if let Some(here) = self.pair.facets(item).and_then(|f| f.here.as_ref()) {
                    let parent = here.parent;
                    self.pair.stirred(parent);
                }
                self.pair.listed(item, Vec::new());
                return Ok(());
            }
            Err(NotDone::Failed(why)) => {
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
                self.pair.unreadable(item);
                return Ok(());
            }
            Err(NotDone::Busy | NotDone::NotAtHand) => return Ok(()),
        };
        let (mut entries, mut left) = (BTreeMap::<String, Entry>::new(), Vec::new());
        let mut heavy = Vec::new();
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
            if stat.is_some() && (one.takes > 0 || self.whole_here.contains_key(&object)) {
                heavy.push((name.clone(), object, one.takes));
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
        for (name, object, takes) in heavy {
            if let Some(it) = self.pair.in_slot_here(item, &name) {
                self.weighs(it, object, takes);
            }
        }
        Ok(())
    }

    /// Decides what became of what is missed, when all has been still for a while. Whether it is decided.
    pub(super) fn settle(&mut self) -> bool {
        if !self.pair.unlisted().is_empty() {
            return false;
        }
        if self.pair.misses() && self.settled_at.is_some_and(|at| at.elapsed() < MISSED) {
            return true;
        }
        self.settled_at = Some(Instant::now());
        self.pair.settle()
    }

    /// Hears what the service tells. Whether all that it had to tell is known.
    pub(super) async fn hear(&mut self) -> bool {
        let due =
            self.asked_at.is_none_or(|at| at.elapsed() >= self.ask_after() || self.pair.waits_for_service())
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
                let mounted = self.hands.shared.at_hand.is_some();
                self.pair = new_pair(&self.about, object.unwrap_or_default(), mounted);
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

    pub(super) async fn try_hear(&mut self) -> Result<(), FeedError> {
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
            self.pair.told_with(told.changes, upto, told.rollbacks);
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
}
