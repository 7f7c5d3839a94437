//! One look over some of the disk: first what is where, then what moved, and at the end what is gone.

use crate::engine::Engine;
use crate::fs::disk::{Look, ObjectId, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Row;
use crate::ops::hands::{Hand, Hands, Spot};
use crate::reconcile::Looking;
use crate::reconcile::bytes::ToRead;
use crate::reconcile::children::{children, nodes_of, object, path_of, see};
use crate::reconcile::report::{Asks, Report};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use yellow_attic_core::reconcile::{Difference, Lies, Object, There, compare, must_ask};
use yellow_attic_core::{Name, NodeId};

/// Things taken up by one operation of the writer.
pub(super) const LOT: usize = 128;

/// A file is in its place so long after its row was written, and not touched any more by us: other bytes with times of before are damage. (A
/// disk that was slower has it taken for a change: its bytes are kept as a state.)
const SURELY_PLACED_MS: i64 = 1_500;

/// Something that lies where nobody knew of it.
#[derive(Clone)]
pub(super) struct Appeared {
    pub parent: NodeId,
    pub name: Name,
    pub look: Look,
}

/// What is gone of a shelf: how many files, and the rows, each with the files and bytes that are gone with it.
type GoneOf = (i64, Vec<(Row, i64, i64)>);

/// One look.
pub(super) struct Pass<'e> {
    pub(super) engine: &'e Engine,
    pub(super) looking: Looking,
    /// What is gone is not believed to be yet: it is told among what is to be looked at again.
    doubt_gone: bool,
    pub(super) report: Report,
    pub(super) appeared: Vec<Appeared>,
    /// At the name of a known one lies another object.
    another: Vec<(Row, Look)>,
    pub(super) to_read: Vec<ToRead>,
    /// Files that are where they belong, and are to be read all the same.
    to_verify: Vec<ToRead>,
    gone: HashMap<NodeId, Row>,
    /// Nodes that were found elsewhere.
    moved: HashSet<NodeId>,
    paths: HashMap<NodeId, Arc<str>>,
}

impl<'e> Pass<'e> {
    pub fn new(engine: &'e Engine, looking: Looking, doubt_gone: bool) -> Pass<'e> {
        Pass {
            engine,
            looking,
            doubt_gone,
            report: Report::default(),
            appeared: Vec::new(),
            another: Vec::new(),
            to_read: Vec::new(),
            to_verify: Vec::new(),
            gone: HashMap::new(),
            moved: HashSet::new(),
            paths: HashMap::new(),
        }
    }

    /// Looks at a folder and all that is known to lie beneath it.
    pub async fn look_beneath(&mut self, folder: NodeId) -> Result<()> {
        let mut next = vec![folder];
        while let Some(folder) = next.pop() {
            self.goes_on()?;
            let begun = std::time::Instant::now();
            next.extend(self.look_into(folder, None).await?);
            // What lies where it belongs is read as it comes: all at once would be held in memory.
            if self.to_verify.len() >= LOT {
                let lot = std::mem::take(&mut self.to_verify);
                self.take_changes(lot).await?;
            }
            if self.looking.paced {
                tokio::time::sleep(begun.elapsed()).await;
            }
        }
        Ok(())
    }

    pub(super) fn goes_on(&self) -> Result<()> {
        if let Some(progress) = &self.looking.progress {
            progress.goes_on()?;
        }
        match self.engine.shared.watching.stop.load(std::sync::atomic::Ordering::SeqCst) {
            true => Err(StoreError::Stopping),
            false => Ok(()),
        }
    }

    /// Looks into one folder: at all of it, or at some names. Returns the folders that are where they belong.
    pub async fn look_into(
        &mut self,
        folder: NodeId,
        names: Option<&HashSet<String>>,
    ) -> Result<Vec<NodeId>> {
        let shared = &self.engine.shared;
        if shared.view.chain(folder).await?.is_none() {
            return Ok(Vec::new());
        }
        // What is known first, then what is there: what is put meanwhile is no difference.
        let children = children(&shared.view, folder, names).await?;
        let dir = match shared.dirs.find(folder).await {
            Ok(dir) => dir,
            Err(StoreError::BytesMissing(_) | StoreError::ShelfMissing(_)) => {
                let path = self.path(folder).await?;
                self.report.unreadable.add(|| format!("{path}: it is not on the disk"), 0);
                return Ok(Vec::new());
            }
            Err(StoreError::Stopping) => return Err(StoreError::Stopping),
            // One folder that cannot be opened keeps nobody from the others, and what is in it is not gone.
            Err(e) => {
                let path = self.path(folder).await?;
                self.report.unreadable.add(|| format!("{path}: {e}"), 0);
                return Ok(Vec::new());
            }
        };
        let (disk, its_dir, its_names) = (shared.disk.clone(), dir.clone(), names.cloned());
        let seen = tokio::task::spawn_blocking(move || see(&disk, &its_dir, its_names.as_ref())).await;
        let seen = match seen.map_err(|_| StoreError::Stopping)? {
            Ok(seen) => seen,
            Err(e) => {
                let path = self.path(folder).await?;
                self.report.unreadable.add(|| format!("{path}: {e}"), 0);
                return Ok(Vec::new());
            }
        };
        self.report.folders += 1;
        self.report.entries += seen.there.len() as u64;
        if let Some(progress) = &self.looking.progress {
            progress.done.fetch_add(seen.there.len() as u64, std::sync::atomic::Ordering::Relaxed);
        }
        let path = self.path(folder).await?;
        let mut children = children;
        for (name, why) in seen.unreadable {
            // Of what cannot be looked at nothing is known: it is not gone.
            children.known.retain(|known| known.name != name);
            self.report.unreadable.add(|| format!("{path}/{name}: {why}"), 0);
        }
        let looks = seen.looks;
        let mut differs = HashSet::new();
        for difference in compare(&children.known, seen.there) {
            differs.extend(self.note(folder, &path, difference, &mut children.rows, &looks));
        }
        let mut folders = Vec::new();
        for known in &children.known {
            if differs.contains(&known.node) {
                continue;
            }
            let Some(row) = children.rows.remove(&known.node) else { continue };
            match (row.is_folder(), looks.get(known.name.as_bytes())) {
                (true, _) => folders.push(known.node),
                (false, Some(look)) if self.looking.verify => {
                    let verified = row.content.and_then(|content| children.verified.get(&content.id.0));
                    let placed = row.at + SURELY_PLACED_MS;
                    let untouched = look.changed <= verified.copied().unwrap_or(placed).max(placed);
                    self.to_verify.push(ToRead { row, look: *look, in_doubt: true, untouched });
                }
                _ => {}
            }
        }
        Ok(folders)
    }

    fn is_owed(&self, object: ObjectId) -> bool {
        !self.engine.shared.placing.places_of(object).is_empty()
    }

    /// Notes a difference. Returns the node of which it is one.
    fn note(
        &mut self,
        parent: NodeId,
        path: &str,
        difference: Difference,
        rows: &mut HashMap<NodeId, Row>,
        looks: &HashMap<Vec<u8>, Look>,
    ) -> Option<NodeId> {
        let look_of = |there: &There| looks.get(&there.raw).copied();
        let name_of = |there: &There| Name::new(std::str::from_utf8(&there.raw).ok()?).ok();
        let appears = |pass: &mut Self, there: &There| {
            if let (Some(look), Some(name)) = (look_of(there), name_of(there))
                && !pass.is_owed(look.id)
            {
                pass.appeared.push(Appeared { parent, name, look });
            }
        };
        match difference {
            Difference::Appeared(there) => {
                appears(self, &there);
                None
            }
            Difference::Changed(node, there) | Difference::InDoubt(node, there) => {
                let (row, look) = (rows.remove(&node)?, look_of(&there)?);
                let in_doubt = row.size() == look.size && row.mtime == look.mtime;
                if !self.is_owed(look.id) {
                    self.to_read.push(ToRead { row, look, in_doubt, untouched: false });
                }
                Some(node)
            }
            Difference::Another(node, there) => {
                let (row, look) = (rows.remove(&node)?, look_of(&there)?);
                if !self.is_owed(look.id) {
                    self.another.push((row, look));
                }
                Some(node)
            }
            Difference::OtherKind(node, there) => {
                appears(self, &there);
                self.gone.insert(node, rows.remove(&node)?);
                Some(node)
            }
            Difference::Gone(node) => {
                self.gone.insert(node, rows.remove(&node)?);
                Some(node)
            }
            Difference::LeftAlone(there, why) => {
                let name = String::from_utf8_lossy(&there.raw).into_owned();
                self.report.left_alone.add(|| format!("{path}/{name}: {}", why.why()), there.size);
                None
            }
        }
    }

    pub(super) async fn path(&mut self, folder: NodeId) -> Result<Arc<str>> {
        if let Some(known) = self.paths.get(&folder) {
            return Ok(known.clone());
        }
        let path: Arc<str> = path_of(&self.engine.shared.view, folder).await?.into();
        self.paths.insert(folder, path.clone());
        Ok(path)
    }

    /// What is left to be found out and taken up, once all was looked at.
    pub async fn finish(mut self) -> Result<Report> {
        if let Some(progress) = &self.looking.progress {
            progress.begin("taking up what was found", 0);
        }
        // New folders show what is in them, among it what moved there.
        loop {
            self.find_moves().await?;
            let (folders, files): (Vec<_>, Vec<_>) = std::mem::take(&mut self.appeared)
                .into_iter()
                .partition(|one| one.look.kind == crate::fs::disk::Plain::Folder);
            self.appeared = files;
            let others: Vec<(Row, Look)> = self.another.extract_if(.., |(row, _)| row.is_folder()).collect();
            if folders.is_empty() && others.is_empty() {
                break;
            }
            for one in folders {
                self.take_folder(one).await?;
            }
            for (row, look) in others {
                self.take_other_folder(row, look).await?;
            }
        }
        let others = std::mem::take(&mut self.another);
        let read = |(row, look)| ToRead { row, look, in_doubt: false, untouched: false };
        self.to_read.extend(others.into_iter().map(read));
        self.take_gone().await?;
        self.take_files().await?;
        let verify = std::mem::take(&mut self.to_verify);
        let to_read = std::mem::take(&mut self.to_read);
        self.take_changes(verify).await?;
        self.take_changes(to_read).await?;
        Ok(self.report)
    }

    pub(super) async fn take(&self, hands: Vec<Hand>) -> Result<Vec<Option<NodeId>>> {
        self.engine.ask(Hands(hands)).await
    }

    /// Of what lies where it was not known: which nodes it is, if their own places are seen to be without it.
    async fn find_moves(&mut self) -> Result<()> {
        let mut places: HashMap<Object, (Spot, Look)> = HashMap::new();
        for one in &self.appeared {
            let spot = Spot { parent: one.parent, name: one.name.clone() };
            places.insert(object(one.look.id), (spot, one.look));
        }
        for (row, look) in &self.another {
            if let (Some(parent), Ok(name)) = (row.parent, Name::new(row.name())) {
                places.insert(object(look.id), (Spot { parent, name }, *look));
            }
        }
        let objects: Vec<Object> = places.keys().copied().collect();
        let nodes = nodes_of(&self.engine.shared.view, &objects).await?;
        let mut moves = Vec::new();
        for (object, nodes) in nodes {
            let Some((spot, look)) = places.get(&object) else { continue };
            for node in nodes {
                if let Some(row) = self.moved_from(node, spot, look).await? {
                    moves.push((row, spot.clone(), look.id));
                    break;
                }
            }
        }
        for part in moves.chunks(LOT) {
            let mut said = Vec::new();
            for (row, spot, _) in part {
                let from = path_of(&self.engine.shared.view, row.node).await?;
                said.push((from, format!("{}/{}", self.path(spot.parent).await?, spot.name)));
            }
            let told = match self.looking.take_up {
                true => {
                    let hand = |(row, to, object): &(Row, Spot, ObjectId)| Hand::Moved {
                        node: row.node,
                        object: *object,
                        to: to.clone(),
                    };
                    self.take(part.iter().map(hand).collect()).await?
                }
                false => part.iter().map(|(row, ..)| Some(row.node)).collect(),
            };
            for (((row, ..), (from, to)), told) in part.iter().zip(said).zip(told) {
                match told {
                    Some(_) => self.report.moved.add(|| format!("{from} -> {to}"), row.size()),
                    None => self.report.not_any_more += 1,
                }
                self.moved.insert(row.node);
                self.gone.remove(&row.node);
            }
            self.paths.clear();
        }
        let taken_up = if self.looking.take_up { &moves[..] } else { &[] };
        for (row, spot, _) in taken_up {
            let Some((_, look)) = places.values().find(|(other, _)| other == spot) else { continue };
            match (row.is_folder(), self.engine.shared.view.row(row.node).await?) {
                // It was looked for where it was, and nothing in it was seen.
                (true, _) => Box::pin(self.look_beneath(row.node)).await?,
                (false, Some(now)) if (now.size(), now.mtime) != (look.size, look.mtime) => {
                    let row = (*now).clone();
                    self.to_read.push(ToRead { row, look: *look, in_doubt: false, untouched: false });
                }
                _ => {}
            }
        }
        let taken: HashSet<(NodeId, String)> =
            moves.iter().map(|(_, spot, _)| (spot.parent, spot.name.to_string())).collect();
        self.appeared.retain(|one| !taken.contains(&(one.parent, one.name.to_string())));
        let moved = &self.moved;
        let left: Vec<(Row, Look)> = self
            .another
            .extract_if(.., |(row, _)| {
                row.parent.is_some_and(|parent| taken.contains(&(parent, row.name().to_string())))
            })
            .collect();
        // At whose name something known lies: they moved themselves, or are gone.
        let left = left.into_iter().filter(|(row, _)| !moved.contains(&row.node));
        self.gone.extend(left.map(|(row, _)| (row.node, row)));
        Ok(())
    }

    /// The row of a node that is this object, if it lay elsewhere and is not there any more.
    async fn moved_from(&self, node: NodeId, spot: &Spot, seen: &Look) -> Result<Option<Row>> {
        let shared = &self.engine.shared;
        if self.moved.contains(&node) {
            return Ok(None);
        }
        let Some(way) = shared.view.chain(node).await? else { return Ok(None) };
        let row = (*way[0]).clone();
        let Some(parent) = row.parent else { return Ok(None) };
        if (parent, row.name()) == (spot.parent, spot.name.as_str()) || self.is_owed(seen.id) {
            return Ok(None);
        }
        let is_file = seen.kind == crate::fs::disk::Plain::File;
        // Where no birth is known, an inode may be another file's by now.
        let sure = seen.id.btime != 0 || !is_file || (row.size() == seen.size && row.mtime == seen.mtime);
        if row.is_folder() == is_file || !sure {
            return Ok(None);
        }
        let Ok(dir) = shared.dirs.find(parent).await else { return Ok(None) };
        let away = look(&*dir, row.name()).is_ok_and(|there| there.is_none_or(|there| there.id != seen.id));
        Ok(away.then_some(row))
    }

    async fn take_folder(&mut self, one: Appeared) -> Result<()> {
        let path = format!("{}/{}", self.path(one.parent).await?, one.name);
        if !self.looking.take_up {
            self.report.new_folders.add(|| path.clone(), 0);
            return self.walk_unknown(&one, &path).await;
        }
        let name = one.name.to_string();
        let at = Spot { parent: one.parent, name: one.name };
        match self.take(vec![Hand::Folder { at, object: one.look.id }]).await?[..] {
            [Some(node)] => {
                self.report.new_folders.add(|| path, 0);
                self.look_beneath(node).await
            }
            _ => {
                self.report.not_any_more += 1;
                self.report.again.push((one.parent, name));
                Ok(())
            }
        }
    }

    /// What lies in a folder that is not taken up, told as if it were.
    async fn walk_unknown(&mut self, top: &Appeared, path: &str) -> Result<()> {
        let shared = self.engine.shared.clone();
        let dir = shared.dirs.find(top.parent).await?;
        let (name, path) = (top.name.to_string(), path.to_string());
        let walked = tokio::task::spawn_blocking(move || {
            let mut next = vec![(shared.disk.open_dir(&*dir, &name)?, path)];
            let mut found = Vec::new();
            while let Some((dir, path)) = next.pop() {
                let seen = see(&shared.disk, &dir, None)?;
                for difference in compare(&[], seen.there) {
                    if let Difference::Appeared(there) = &difference
                        && there.lies == Lies::Folder
                        && let Ok(name) = std::str::from_utf8(&there.raw)
                        && let Ok(inner) = shared.disk.open_dir(&dir, name)
                    {
                        next.push((inner, format!("{path}/{name}")));
                    }
                    found.push((path.clone(), difference));
                }
            }
            Ok::<_, std::io::Error>(found)
        });
        let found = match walked.await.map_err(|_| StoreError::Stopping)? {
            Ok(found) => found,
            Err(e) => {
                self.report.unreadable.add(|| format!("{}: {e}", top.name), 0);
                return Ok(());
            }
        };
        for (path, difference) in found {
            match difference {
                Difference::Appeared(there) => {
                    let name = String::from_utf8_lossy(&there.raw).into_owned();
                    let kind = match there.lies {
                        Lies::Folder => &mut self.report.new_folders,
                        _ => &mut self.report.new_files,
                    };
                    let bytes = if there.lies == Lies::Folder { 0 } else { there.size };
                    kind.add(|| format!("{path}/{name}"), bytes);
                }
                Difference::LeftAlone(there, why) => {
                    let name = String::from_utf8_lossy(&there.raw).into_owned();
                    self.report.left_alone.add(|| format!("{path}/{name}: {}", why.why()), there.size);
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// A known folder is another directory: it is taken for it, and what is in it is looked at.
    async fn take_other_folder(&mut self, row: Row, look: Look) -> Result<()> {
        let path = path_of(&self.engine.shared.view, row.node).await?;
        self.report.touched.add(|| path, 0);
        if !self.looking.take_up {
            return Ok(());
        }
        match self.take(vec![Hand::OtherFolder { node: row.node, object: look.id }]).await?[..] {
            [Some(node)] => self.look_beneath(node).await,
            _ => {
                self.report.not_any_more += 1;
                Ok(())
            }
        }
    }

    /// What is nowhere: gone, unless it is so much of a shelf that it is asked about.
    async fn take_gone(&mut self) -> Result<()> {
        let view = self.engine.shared.view.clone();
        let mut of_shelf: HashMap<yellow_attic_core::ShelfId, GoneOf> = HashMap::new();
        let gone = std::mem::take(&mut self.gone);
        if self.doubt_gone {
            gone.into_values().for_each(|row| self.again(&row));
            return Ok(());
        }
        for (node, row) in &gone {
            let Some(way) = view.chain(*node).await? else { continue };
            // With the folder in which it lay.
            if way[1..].iter().any(|above| gone.contains_key(&above.node)) {
                continue;
            }
            let (files, bytes) = match view.folder(*node).await?.filter(|_| row.is_folder()) {
                Some(sums) => (sums.files, sums.bytes),
                None => (1, row.size()),
            };
            let shelf = of_shelf.entry(way[way.len() - 1].shelf).or_default();
            shelf.0 += files;
            shelf.1.push((row.clone(), files, bytes));
        }
        for (id, (files, rows)) in of_shelf {
            let Some(shelf) = view.shelf(id) else { continue };
            let of = view.folder(shelf.root).await?.map_or(0, |sums| sums.files);
            let asks = must_ask(files, of);
            if asks {
                self.report.asks.push(Asks { shelf: shelf.name.clone(), gone: files, of });
            }
            let takes = self.looking.take_up && (!asks || self.looking.accept_gone);
            for part in rows.chunks(LOT) {
                let mut said = Vec::new();
                for (row, ..) in part {
                    said.push(path_of(&view, row.node).await?);
                }
                let told = match takes {
                    true => {
                        let mut hands = Vec::new();
                        for (row, ..) in part {
                            let object = match row.content {
                                Some(content) => content.object,
                                None => {
                                    view.folder(row.node).await?.map_or_else(Default::default, |f| f.object)
                                }
                            };
                            hands.push(Hand::Gone { node: row.node, object });
                        }
                        self.take(hands).await?
                    }
                    false => part.iter().map(|(row, ..)| Some(row.node)).collect(),
                };
                for (((.., bytes), path), told) in part.iter().zip(said).zip(told) {
                    match told {
                        Some(_) => self.report.gone.add(|| path, *bytes),
                        None => self.report.not_any_more += 1,
                    }
                }
            }
        }
        Ok(())
    }

    /// Has something looked at once more.
    pub(super) fn again(&mut self, row: &Row) {
        self.report.again.extend(row.parent.map(|parent| (parent, row.name().to_string())));
    }
}
