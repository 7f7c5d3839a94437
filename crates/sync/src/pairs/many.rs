//! Small files, many in one request: up as one tar stream that names folders by their ids, down as one of states by their
//! moments.

use super::act::{Came, Hands, Task, trouble_of};
use super::fetch::stub_for;
use super::ground::{Ground, NotDone};
use super::landing::Landing;
use bytes::BytesMut;
use futures_util::StreamExt;
use std::collections::HashMap;
use std::io::Read;
use std::sync::atomic::Ordering;
use yellow_attic_client::{Body, Error, api};
use yellow_attic_core::Moment;
use yellow_attic_core::merge::observe::Node;
use yellow_attic_core::merge::outcome::Outcome;
use yellow_attic_core::merge::plan::{Action, Does};
use yellow_attic_core::merge::{Hash, Stat};
use yellow_attic_core::{NodeId, tar};

/// Files of at most so many bytes are carried together.
const SMALL: u64 = 1 << 20;
/// So many files go in one request,
const FILES: usize = 1_000;
/// or so many bytes.
const BYTES: u64 = 8 << 20;

/// How a task goes with others.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Up,
    Down,
    /// What stands here for what stays there.
    Stubs,
    Alone,
}

fn kind(task: &Task) -> (Kind, u64) {
    match &task.action.does {
        Does::PutNew { stat, .. } if stat.size <= SMALL => (Kind::Up, stat.size),
        Does::Fetch { over: None, .. } if task.stub => (Kind::Stubs, 0),
        Does::Fetch { state, over: None, .. } => match state.bytes {
            Some((_, size)) if size <= SMALL => (Kind::Down, size),
            _ => (Kind::Alone, 0),
        },
        _ => (Kind::Alone, 0),
    }
}

/// Tasks as they are carried out: many small files together, all else alone.
pub fn together(tasks: Vec<Task>) -> Vec<Vec<Task>> {
    let (mut lots, mut up, mut down) = (Vec::new(), (Vec::new(), 0), (Vec::new(), 0));
    let mut stubs = (Vec::new(), 0);
    for task in tasks {
        let (kind, size) = kind(&task);
        let lot = match kind {
            Kind::Up => &mut up,
            Kind::Down => &mut down,
            Kind::Stubs => &mut stubs,
            Kind::Alone => {
                lots.push(vec![task]);
                continue;
            }
        };
        if lot.0.len() >= FILES || lot.1 + size > BYTES {
            lots.push(std::mem::take(&mut lot.0));
            lot.1 = 0;
        }
        lot.0.push(task);
        lot.1 += size;
    }
    lots.extend([up.0, down.0, stubs.0].into_iter().filter(|lot| !lot.is_empty()));
    lots
}

/// What one of many came to.
type Each = (Action, Came);

fn unknown(tasks: impl IntoIterator<Item = Task>) -> Vec<Each> {
    tasks.into_iter().map(|task| (task.action, Outcome::Unknown.into())).collect()
}

impl Hands {
    /// Carries out what goes together.
    pub async fn carry_out_lot(&self, mut lot: Vec<Task>) -> Vec<Each> {
        if lot.len() == 1
            && let Some(task) = lot.pop()
        {
            let came = self.carry_out(&task).await;
            return vec![(task.action, came)];
        }
        match lot.first().map(|task| kind(task).0) {
            Some(Kind::Up) => self.send_many(lot).await,
            Some(Kind::Down) => self.fetch_many(lot).await,
            Some(Kind::Stubs) => self.stub_many(lot).await,
            _ => unknown(lot),
        }
    }

    async fn fetch_many(&self, tasks: Vec<Task>) -> Vec<Each> {
        let wanted = tasks.iter().filter_map(|task| match &task.action.does {
            Does::Fetch { state, .. } => {
                Some(api::WantedState { node: state.node.0, moment: state.moment.token() })
            }
            _ => None,
        });
        let wanted: Vec<_> = wanted.collect();
        let bytes: u64 = tasks.iter().map(|task| kind(task).1).sum();
        if self.ground.free() < bytes.saturating_add(64 << 20) {
            let full = NotDone::Failed(std::io::ErrorKind::StorageFull.into());
            return failed(tasks, full.into());
        }
        let stream = match self.client.states(wanted).await {
            Ok(stream) => stream,
            Err(e) => return failed(tasks, e.into()),
        };
        let mut stream = std::pin::pin!(stream);
        let (mut arrived, mut broken) = (BytesMut::new(), None);
        while let Some(piece) = stream.next().await {
            match piece {
                Ok(piece) => {
                    self.shared.down.take(piece.len() as u64).await;
                    arrived.extend_from_slice(&piece);
                }
                Err(e) => {
                    broken = Some(e);
                    break;
                }
            }
        }
        let moved = self.moved.clone();
        let ground = self.ground.clone();
        let landed = tokio::task::spawn_blocking(move || {
            let (found, whole) = files_in(&arrived);
            let (mut landing, mut going) = (Vec::new(), Vec::new());
            let mut done: Vec<Each> = Vec::new();
            let mut alone = Vec::new();
            for (place, task) in tasks.into_iter().enumerate() {
                match found.get(&place).map(|bytes| arrives(&task, bytes)) {
                    Some(Ok(file)) => {
                        moved.fetch_add(file.bytes.len() as u64, Ordering::Relaxed);
                        landing.push(file);
                        going.push(task);
                    }
                    Some(Err(outcome)) => done.push((task.action, outcome.into())),
                    // What the service left out is asked for by itself: then it says why.
                    None if whole => alone.push(task),
                    None => done.push((task.action, Outcome::Unknown.into())),
                }
            }
            for (task, landed) in going.into_iter().zip(ground.land_many(landing)) {
                let came = match landed {
                    Ok((object, stat)) => Outcome::Here(object, stat).into(),
                    Err(not) => not.into(),
                };
                done.push((task.action, came));
            }
            (done, alone)
        });
        let (mut done, alone) = landed.await.unwrap_or_default();
        for task in alone {
            let came = self.carry_out(&task).await;
            done.push((task.action, came));
        }
        if let (Some(error), Some((_, came))) =
            (broken, done.iter_mut().find(|(_, c)| c.outcome == Outcome::Unknown))
        {
            *came = error.into();
        }
        done
    }

    async fn stub_many(&self, tasks: Vec<Task>) -> Vec<Each> {
        let ground = self.ground.clone();
        let landed = tokio::task::spawn_blocking(move || {
            let (mut landing, mut going, mut done) = (Vec::new(), Vec::new(), Vec::new());
            for task in tasks {
                let Does::Fetch { slot, state, .. } = &task.action.does else { continue };
                match (task.above.clone(), stub_for(state)) {
                    (Some(above), Some(stub)) => {
                        landing.push(Landing {
                            above,
                            name: slot.1.clone().into_bytes(),
                            bytes: Vec::new(),
                            // What has no bytes is here with all of them.
                            stub: Some(stub).filter(|stub| stub.size > 0),
                            modified_ms: state.modified,
                            executable: state.executable,
                        });
                        going.push(task);
                    }
                    _ => done.push((task.action, Outcome::OtherwiseHere.into())),
                }
            }
            for (task, landed) in going.into_iter().zip(ground.land_many(landing)) {
                let came =
                    landed.map_or_else(Came::from, |(object, stat)| Outcome::Here(object, stat).into());
                done.push((task.action, came));
            }
            done
        });
        landed.await.unwrap_or_default()
    }

    async fn send_many(&self, tasks: Vec<Task>) -> Vec<Each> {
        let ground = self.ground.clone();
        let read = tokio::task::spawn_blocking(move || {
            let (mut stream, mut sent) = (Vec::new(), Vec::new());
            let mut done: Vec<Each> = Vec::new();
            let mut alone = Vec::new();
            for task in tasks {
                match read(&ground, &task) {
                    // The service has its bytes: it is asked to make a file of them.
                    Err(NotDone::NotAtHand) => alone.push(task),
                    Ok(bytes) => {
                        entry(&mut stream, sent.len(), &task, &bytes);
                        sent.push(task);
                    }
                    Err(not) => done.push((task.action, Came::from(not))),
                }
            }
            stream.resize(stream.len() + 1024, 0);
            (stream, sent, done, alone)
        });
        let Ok((stream, sent, mut done, alone)) = read.await else { return Vec::new() };
        for task in alone {
            let came = self.carry_out(&task).await;
            done.push((task.action, came));
        }
        let Some(Does::PutNew { parent, .. }) = sent.first().map(|task| task.action.does.clone()) else {
            return done;
        };
        self.shared.up.take(stream.len() as u64).await;
        self.moved.fetch_add(stream.len() as u64, Ordering::Relaxed);
        let told = self.client.send_tar(parent.0, Body::from(stream)).await;
        let lines = match told {
            Ok(lines) => lines,
            // The folder itself is gone, or may not be added to: each says for itself what that means.
            Err(e) if matches!(e, Error::Refused(_)) && trouble_of(&e).is_none() => {
                for task in sent {
                    let came = self.carry_out(&task).await;
                    done.push((task.action, came));
                }
                return done;
            }
            Err(e) => {
                done.extend(failed(sent, e.into()));
                return done;
            }
        };
        let mut lines = std::pin::pin!(lines);
        let mut fates: HashMap<usize, api::TarEntry> = HashMap::new();
        let mut broken = None;
        while let Some(line) = lines.next().await {
            match line {
                Ok(api::TarLine::Entry(one)) => {
                    let place = one.path.split('/').next().and_then(|text| text.parse().ok());
                    place.into_iter().for_each(|place| drop(fates.insert(place, one.clone())));
                }
                Ok(api::TarLine::End { .. }) => {}
                Err(e) => {
                    broken = Some(e);
                    break;
                }
            }
        }
        for (place, task) in sent.into_iter().enumerate() {
            let came =
                fates.remove(&place).map_or_else(|| Outcome::Unknown.into(), |fate| told_by(&task, fate));
            done.push((task.action, came));
        }
        if let (Some(error), Some((_, came))) =
            (broken, done.iter_mut().find(|(_, c)| c.outcome == Outcome::Unknown))
        {
            *came = error.into();
        }
        done
    }
}

/// None of them was done; the first says why.
fn failed(tasks: Vec<Task>, first: Came) -> Vec<Each> {
    let mut first = Some(first);
    let each = |task: Task| (task.action, first.take().unwrap_or_else(|| Outcome::Unknown.into()));
    tasks.into_iter().map(each).collect()
}

/// What arrived for a task, if it is that.
fn arrives(task: &Task, bytes: &[u8]) -> Result<Landing, Outcome> {
    let Does::Fetch { slot, state, .. } = &task.action.does else { return Err(Outcome::Unknown) };
    let above = task.above.clone().ok_or(Outcome::OtherwiseHere)?;
    if Some((*blake3::hash(bytes).as_bytes(), bytes.len() as u64)) != state.bytes {
        return Err(Outcome::OtherwiseThere);
    }
    Ok(Landing {
        above,
        name: slot.1.clone().into_bytes(),
        bytes: bytes.to_vec(),
        stub: None,
        modified_ms: state.modified,
        executable: state.executable,
    })
}

/// The files in a tar stream whose names are numbers, and whether it came to its end.
fn files_in(stream: &[u8]) -> (HashMap<usize, &[u8]>, bool) {
    let (mut found, mut at) = (HashMap::new(), 0);
    while let Some(head) = stream.get(at..at + 512) {
        if head.iter().all(|b| *b == 0) {
            return (found, true);
        }
        let text = |range: std::ops::Range<usize>| {
            let text = head.get(range).unwrap_or_default();
            std::str::from_utf8(text).unwrap_or_default().trim_matches(['\0', ' ']).to_string()
        };
        let size = u64::from_str_radix(&text(124..136), 8).unwrap_or(u64::MAX);
        let (begins, ends) = (at + 512, (at as u64 + 512).saturating_add(size));
        let Some(bytes) = usize::try_from(ends).ok().and_then(|ends| stream.get(begins..ends)) else { break };
        // A head of pax extensions comes before some: times to the millisecond, which are known already.
        if head.get(156).is_some_and(|kind| *kind == b'0')
            && let Ok(place) = text(0..100).parse()
        {
            found.insert(place, bytes);
        }
        at = begins + bytes.len() + tar::padding(size) as usize;
    }
    (found, false)
}

/// The bytes of a file that is as it was seen, before and after.
fn read(ground: &Ground, task: &Task) -> Result<Vec<u8>, NotDone> {
    let (way, bytes, stat) = match (&task.way, &task.action.does) {
        (Some(way), Does::PutNew { bytes, stat, .. }) => (way, *bytes, *stat),
        _ => return Err(NotDone::Otherwise),
    };
    let seen = (task.object.ok_or(NotDone::Otherwise)?, stat);
    let mut file = ground.read(way, seen)?;
    let mut all = Vec::with_capacity(stat.size as usize);
    file.read_to_end(&mut all).map_err(NotDone::Failed)?;
    match Ground::is_still(&file, seen) && *blake3::hash(&all).as_bytes() == bytes {
        true => Ok(all),
        false => Err(NotDone::Otherwise),
    }
}

/// Adds an entry that says which folder it goes into, that nothing may stand there, and what the request is called.
fn entry(stream: &mut Vec<u8>, place: usize, task: &Task, bytes: &[u8]) {
    let Does::PutNew { parent, name, stat, .. } = &task.action.does else { return };
    let (parent, place) = (parent.0.to_string(), place.to_string());
    let stated = [("parent", parent.as_str()), ("thing", "new"), ("request", task.request.as_str())];
    stream.extend_from_slice(&tar::stated_head(
        &format!("{place}/{name}"),
        tar::Entry::file(stat.executable),
        bytes.len() as u64,
        stat.modified.div_euclid(1_000_000),
        &place,
        &stated,
    ));
    stream.extend_from_slice(bytes);
    stream.resize(stream.len() + tar::padding(bytes.len() as u64) as usize, 0);
}

/// What became of one entry.
fn told_by(task: &Task, fate: api::TarEntry) -> Came {
    let Does::PutNew { parent, name, bytes, stat } = &task.action.does else {
        return Outcome::Unknown.into();
    };
    match (fate.problem, fate.node, fate.moment.as_deref().and_then(Moment::from_token)) {
        (Some(problem), ..) => Error::Refused(problem).into(),
        (None, Some(node), Some(moment)) => {
            Outcome::There(vec![sent(NodeId(node), (*parent, name), (*bytes, *stat), moment)]).into()
        }
        _ => Outcome::Unknown.into(),
    }
}

/// What the service has now of what was sent.
fn sent(node: NodeId, (parent, name): (NodeId, &String), (hash, stat): (Hash, Stat), moment: Moment) -> Node {
    Node {
        node,
        parent,
        name: name.clone(),
        bytes: Some((hash, stat.size)),
        executable: stat.executable,
        modified: stat.modified.div_euclid(1_000_000),
        moment,
    }
}
