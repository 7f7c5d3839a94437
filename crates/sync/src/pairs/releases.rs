//! A pair of a mounted folder: it says what lies here, and lets go of what the service has.

use super::at_hand::AtHand;
use super::fetch::stub_for;
use super::run::Running;
use std::sync::Arc;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Item, Object, TOP};
use yellow_attic_core::mounted::room::Thing;

impl Running {
    fn at_hand(&self) -> Option<Arc<AtHand>> {
        self.hands.shared.at_hand.clone()
    }

    /// A file that was found in its folder takes so many bytes of this computer's disk.
    pub(super) fn weighs(&mut self, item: Item, object: Object, bytes: u64) {
        let Some(at_hand) = self.at_hand() else { return };
        if bytes == 0 && self.whole_here.remove(&object).is_none() {
            return;
        }
        at_hand.weigh(object, bytes, !self.is_sent(item, object));
        if bytes > 0 {
            self.whole_here.insert(object, item);
        }
        at_hand.tells_news();
    }

    /// Whether the service has all that lies here of a file, as far as is known.
    fn is_sent(&self, item: Item, object: Object) -> bool {
        let Some(facets) = self.pair.facets(item) else { return false };
        let (Some(here), Some(there)) = (&facets.here, &facets.there) else { return false };
        here.object == object && here.hash.is_some() && here.hash == there.bytes.map(|(hash, _)| hash)
    }

    /// Something came to its end: whether the service has what lies here of it may be otherwise now.
    pub(super) fn owes(&mut self, item: Item, before: Option<Object>) {
        let Some(at_hand) = self.at_hand() else { return };
        let here = self.pair.facets(item).and_then(|facets| facets.here.as_ref());
        let here = here.and_then(|here| Some((here.object, here.stat?)));
        if let Some(before) = before.filter(|before| here.is_none_or(|(object, _)| object != *before)) {
            if self.whole_here.remove(&before).is_some() {
                at_hand.weigh(before, 0, false);
            }
            if let Some((now, _)) = here {
                at_hand.follows(before, now);
            }
        }
        if let Some((object, stat)) = here
            && at_hand.room().of(Thing::File(object)) > 0
            && self.is_sent(item, object)
        {
            // A program may have written to it since.
            let now = self.way(item).and_then(|way| self.hands.ground.stands(&way));
            if now == Some((object, Some(stat))) {
                self.whole_here.insert(object, item);
                at_hand.room().owes(Thing::File(object), false);
            }
        }
        at_hand.tells_news();
    }

    /// When both are the same, nothing is owed: what was found to be so without anything being done for it too.
    pub(super) fn owes_nothing(&mut self) {
        let Some(at_hand) = self.at_hand() else { return };
        if at_hand.room().owed() == 0 {
            return;
        }
        let owed = |object: &Object| at_hand.room().is_owed(Thing::File(*object));
        let all: Vec<(Object, Item)> =
            self.whole_here.iter().filter(|(object, _)| owed(object)).map(|(o, i)| (*o, *i)).collect();
        for (object, item) in all {
            self.owes(item, Some(object));
        }
    }

    /// Whether only that it is there is to be known here, and its bytes stay on the service until they are asked for.
    pub(super) fn stays_there(&self, action: &Action) -> bool {
        let Some(at_hand) = self.at_hand() else { return false };
        let Does::Fetch { slot, .. } = &action.does else { return false };
        if !at_hand.keeps_any() {
            return true;
        }
        let here = |item: Item| self.pair.facets(item).and_then(|facets| facets.here.as_ref());
        if here(action.item).is_some_and(|here| at_hand.is_kept(here.object)) {
            return false;
        }
        let mut next = slot.0;
        for _ in 0..1000 {
            let Some(folder) = here(next) else { break };
            if at_hand.is_kept(folder.object) {
                return false;
            }
            if next == TOP {
                break;
            }
            next = folder.parent;
        }
        true
    }

    /// Releases what has to go, or is to, as far as the service has it.
    pub(super) async fn let_go(&mut self) {
        let Some(at_hand) = self.at_hand() else { return };
        let mine = |object: &Object| self.whole_here.contains_key(object);
        let mut wanted = at_hand.take_wanted(mine);
        let presses = {
            let room = at_hand.room();
            room.presses(room.wanted(), self.hands.ground.free())
        };
        if presses > 0 {
            let goes = at_hand.room().to_release(presses);
            let files = goes.into_iter().filter_map(|thing| match thing {
                Thing::File(object) => Some(object),
                Thing::Blocks(_) => None,
            });
            wanted.extend(files.filter(mine));
        }
        for object in wanted {
            self.release_one(&at_hand, object).await;
        }
    }

    async fn release_one(&mut self, at_hand: &Arc<AtHand>, object: Object) {
        let Some(item) = self.whole_here.get(&object).copied() else { return };
        let Some(facets) = self.pair.facets(item) else { return };
        let (Some(here), Some(there)) = (&facets.here, &facets.there) else { return };
        let (Some(stat), Some(stub), Some(way)) = (here.stat, stub_for(there), self.way(item)) else {
            return;
        };
        if !self.is_sent(item, object) || self.begun(item) {
            return;
        }
        let (ground, hand) = (self.hands.ground.clone(), at_hand.clone());
        let done = tokio::task::spawn_blocking(move || {
            // Nobody opens it meanwhile.
            let _gate = hand.gate.write();
            if !hand.room().is_idle(Thing::File(object)) {
                return None;
            }
            ground.release(&way, (object, stat), &stub).ok()
        });
        if let Ok(Some((_, (object, Some(now))))) = done.await {
            self.whole_here.remove(&object);
            at_hand.weigh(object, 0, false);
            // It is what it was, at another time of change: its folder need not be read for that.
            self.pair.let_go(item, stat, now);
            at_hand.tells_news();
        }
    }
}
