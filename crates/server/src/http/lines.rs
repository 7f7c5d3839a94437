//! Lines that are open: how many there may be, of one address and in all, and cutting those whose readers stand still.
//!
//! A reader that takes nothing holds a descriptor and memory. It is waited for half an hour, since a paused film goes on
//! where it was; two minutes, when its address holds more than its share of the lines, or most of them are used.

use actix_web::body::{BodySize, MessageBody};
use actix_web::web::Bytes;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Weak};
use std::task::{Context, Poll, Waker, ready};
use std::time::{Duration, Instant};

/// Descriptors that are kept for files, the catalogue and the machine's own questions.
const KEPT: u64 = 512;
/// More lines than this are not taken, however many descriptors there are: each takes memory.
const MOST: u64 = 16_384;
/// So many more may come from this machine itself: whatever watches the service is let in.
const FROM_HERE: usize = 64;
/// So many answers of one HTTP/2 connection may be under way.
const MOST_STREAMS: usize = 100;
/// So much of an answer is handed to an HTTP/2 connection at a time: how far its reader is shows in such steps.
const STEP: usize = 64 << 10;
/// How long a reader that stands still is waited for when lines are scarce.
const SCARCE: Duration = Duration::from_secs(120);

/// All lines.
pub struct Lines {
    most: usize,
    patience: Duration,
    /// Proxies that are trusted: many are behind one.
    trusted: Vec<IpAddr>,
    open: Mutex<Open>,
    begun: Instant,
    cut: AtomicU64,
}

#[derive(Default)]
struct Open {
    all: usize,
    by_address: HashMap<IpAddr, usize>,
    lines: Vec<Weak<Line>>,
}

/// One line.
pub struct Line {
    of: Arc<Lines>,
    from: IpAddr,
    /// Since when its reader takes nothing, in milliseconds since the service began, plus one; 0: it does.
    stands_still: AtomicU64,
    /// It is waited for however long it takes: events.
    patient: AtomicBool,
    /// Whoever writes to it is to look whether anything was taken meanwhile.
    asked: AtomicBool,
    /// How many bytes the socket held when the reader stopped taking any.
    held: AtomicU64,
    cut: AtomicBool,
    waker: Mutex<Option<Waker>>,
    /// Answers under way on it, over HTTP/2.
    streams: AtomicUsize,
    /// Of one of these answers: the connection that carries it. It holds a file and memory as a line of its own does.
    carried_by: Option<Arc<Line>>,
}

/// Raises the number of descriptors that may be open as far as the machine lets it, and tells how many.
pub fn raise_descriptors() -> u64 {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    let before = limit.current.unwrap_or(u64::MAX);
    limit.current = limit.maximum;
    match setrlimit(Resource::Nofile, limit) {
        Ok(()) => getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX),
        Err(error) => {
            tracing::warn!(%error, descriptors = before, "the number of open files could not be raised");
            before
        }
    }
}

impl Lines {
    /// As many as there may be descriptors, less those that are kept; `most`: another number.
    pub fn new(descriptors: u64, most: Option<u64>, patience: Duration, trusted: Vec<IpAddr>) -> Lines {
        let room = descriptors.saturating_sub(KEPT.min(descriptors / 2)).min(MOST);
        let most = most.map_or(room, |most| most.min(room));
        Lines {
            most: usize::try_from(most).unwrap_or(usize::MAX),
            patience,
            trusted,
            open: Mutex::default(),
            begun: Instant::now(),
            cut: AtomicU64::new(0),
        }
    }

    /// How many there may be.
    pub fn most(&self) -> usize {
        self.most
    }

    /// How many there are.
    pub fn open(&self) -> usize {
        self.open.lock().all
    }

    /// How many were cut because their readers stood still.
    pub fn cut(&self) -> u64 {
        self.cut.load(Ordering::Relaxed)
    }

    fn many(&self, from: IpAddr) -> bool {
        from.is_loopback() || self.trusted.contains(&from)
    }

    /// One more; none if there are too many, or too many of this address.
    pub fn one(self: &Arc<Lines>, from: IpAddr) -> Option<Arc<Line>> {
        self.another(from, None)
    }

    fn another(self: &Arc<Lines>, from: IpAddr, carried_by: Option<Arc<Line>>) -> Option<Arc<Line>> {
        let from = from.to_canonical();
        let mut open = self.open.lock();
        let most = if from.is_loopback() { self.most + FROM_HERE } else { self.most };
        let mine = open.by_address.get(&from).copied().unwrap_or(0);
        if open.all >= most || !self.many(from) && mine >= self.most / 4 {
            return None;
        }
        open.all += 1;
        *open.by_address.entry(from).or_default() += 1;
        let line = Arc::new(Line {
            of: self.clone(),
            from,
            stands_still: AtomicU64::new(0),
            patient: AtomicBool::new(false),
            asked: AtomicBool::new(false),
            held: AtomicU64::new(0),
            cut: AtomicBool::new(false),
            waker: Mutex::new(None),
            streams: AtomicUsize::new(0),
            carried_by,
        });
        if open.lines.len() > 2 * open.all + 64 {
            open.lines.retain(|l| l.strong_count() > 0);
        }
        open.lines.push(Arc::downgrade(&line));
        Some(line)
    }

    fn now(&self) -> u64 {
        u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX - 1) + 1
    }

    /// Cuts those whose readers stand still for too long.
    fn look(&self) {
        let open = self.open.lock();
        let scarce = open.all >= self.most / 4 * 3;
        let now = self.now();
        for line in open.lines.iter().filter_map(Weak::upgrade) {
            let since = line.stands_still.load(Ordering::Relaxed);
            if since == 0 || line.patient.load(Ordering::Relaxed) || self.trusted.contains(&line.from) {
                continue;
            }
            let greedy = open.by_address.get(&line.from).is_some_and(|mine| *mine > self.most / 8);
            let patience = if scarce || greedy { self.patience.min(SCARCE) } else { self.patience };
            if u128::from(now - since.min(now)) < patience.as_millis() {
                continue;
            }
            if let Some(connection) = &line.carried_by {
                // Nothing of it was taken for so long, and an answer cannot be ended alone.
                self.cut.fetch_add(1, Ordering::Relaxed);
                connection.cut.store(true, Ordering::SeqCst);
                if let Some(waker) = connection.waker.lock().take() {
                    waker.wake();
                }
                continue;
            }
            // The socket may hold megabytes: whoever reads slowly takes of those for a long time.
            line.asked.store(true, Ordering::SeqCst);
            if let Some(waker) = line.waker.lock().take() {
                waker.wake();
            }
        }
    }

    /// Looks again and again.
    pub async fn follow(self: Arc<Lines>) {
        let every =
            (self.patience.min(SCARCE) / 8).clamp(Duration::from_millis(100), Duration::from_secs(10));
        loop {
            tokio::time::sleep(every).await;
            self.look();
        }
    }
}

impl Line {
    /// What is written is not taken just now. `held`: how many bytes the socket holds for the reader.
    pub fn waits(&self, waker: &Waker, held: impl Fn() -> Option<u64>) {
        *self.waker.lock() = Some(waker.clone());
        let asked = self.asked.swap(false, Ordering::SeqCst);
        if self.stands_still.load(Ordering::Relaxed) != 0 && !asked {
            return;
        }
        let held = held().unwrap_or(0);
        if asked && held == self.held.load(Ordering::Relaxed) {
            self.of.cut.fetch_add(1, Ordering::Relaxed);
            self.cut.store(true, Ordering::SeqCst);
            return;
        }
        self.held.store(held, Ordering::Relaxed);
        self.stands_still.store(self.of.now(), Ordering::Relaxed);
    }

    /// Something was taken.
    pub fn goes_on(&self) {
        if self.stands_still.load(Ordering::Relaxed) != 0 {
            self.stands_still.store(0, Ordering::Relaxed);
        }
    }

    /// Whether it was cut.
    pub fn is_cut(&self) -> bool {
        self.cut.load(Ordering::Relaxed)
    }

    /// One more answer under way on this connection, over HTTP/2; none if there are too many.
    pub fn stream(self: &Arc<Line>) -> Option<Arc<Line>> {
        if self.streams.fetch_add(1, Ordering::SeqCst) >= MOST_STREAMS {
            self.streams.fetch_sub(1, Ordering::SeqCst);
            return None;
        }
        let one = self.of.another(self.from, Some(self.clone()));
        if one.is_none() {
            self.streams.fetch_sub(1, Ordering::SeqCst);
        }
        one
    }

    /// Whoever waits on this connection is to be woken when it is cut.
    pub fn wakes(&self, waker: &Waker) {
        *self.waker.lock() = Some(waker.clone());
    }

    /// It is waited for however long it takes.
    pub fn be_patient(&self) {
        self.patient.store(true, Ordering::Relaxed);
    }
}

/// An answer over HTTP/2, which is watched like a line: a piece that nobody asks to go on from stands still.
pub struct Paced<B> {
    body: B,
    /// Of a piece, what was not handed on yet.
    rest: Bytes,
    stream: Arc<Line>,
}

impl<B> Paced<B> {
    /// Watches an answer.
    pub fn new(body: B, stream: Arc<Line>) -> Paced<B> {
        Paced { body, rest: Bytes::new(), stream }
    }
}

impl<B: MessageBody + Unpin> MessageBody for Paced<B> {
    type Error = B::Error;

    fn size(&self) -> BodySize {
        self.body.size()
    }

    fn poll_next(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Self::Error>>> {
        let this = self.get_mut();
        // Asked for more: all before it was taken.
        this.stream.goes_on();
        if this.rest.is_empty() {
            match ready!(Pin::new(&mut this.body).poll_next(cx)) {
                Some(Ok(piece)) => this.rest = piece,
                other => return Poll::Ready(other),
            }
        }
        let step = this.rest.len().min(STEP);
        this.stream.stands_still.store(this.stream.of.now(), Ordering::Relaxed);
        Poll::Ready(Some(Ok(this.rest.split_to(step))))
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        if let Some(connection) = &self.carried_by {
            connection.streams.fetch_sub(1, Ordering::SeqCst);
        }
        let mut open = self.of.open.lock();
        open.all -= 1;
        if let Some(mine) = open.by_address.get_mut(&self.from) {
            *mine -= 1;
            if *mine == 0 {
                open.by_address.remove(&self.from);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_has_its_share_and_this_machine_gets_in_when_all_are_used() {
        let lines = Arc::new(Lines::new(1 << 20, Some(100), Duration::from_secs(1800), vec![]));
        let from = |n: u8| IpAddr::from([192, 0, 2, n]);
        let greedy: Vec<_> = (0..50).filter_map(|_| lines.one(from(1))).collect();
        assert_eq!(greedy.len(), 25);
        let others: Vec<_> = (0..200).filter_map(|n| lines.one(from(2 + n))).collect();
        assert_eq!((others.len(), lines.open()), (75, 100));
        assert!(lines.one(IpAddr::from([127, 0, 0, 1])).is_some());
        drop(greedy);
        assert!(lines.one(from(1)).is_some());
        assert_eq!(lines.open(), 75);
    }

    #[test]
    fn answers_over_one_connection_count_like_lines_and_one_that_stands_still_cuts_it() {
        let lines = Arc::new(Lines::new(1 << 20, Some(2000), Duration::from_millis(0), vec![]));
        let connection = lines.one(IpAddr::from([192, 0, 2, 1])).unwrap();
        let streams: Vec<_> = (0..150).filter_map(|_| connection.stream()).collect();
        assert_eq!((streams.len(), lines.open()), (100, 101));
        drop(streams);
        assert_eq!(lines.open(), 1);
        // Connections of one address have their share together, answers and all.
        let more: Vec<_> = (0..9).filter_map(|_| lines.one(IpAddr::from([192, 0, 2, 1]))).collect();
        let streams: Vec<_> = more.iter().flat_map(|c| (0..100).filter_map(|_| c.stream())).collect();
        assert_eq!(streams.len() + more.len() + 1, 500);
        drop((streams, more));
        let stream = connection.stream().unwrap();
        let mut body = Paced::new(Bytes::from(vec![7; 3 * STEP]), stream);
        let mut cx = Context::from_waker(Waker::noop());
        lines.look();
        assert!(!connection.is_cut(), "nothing was handed out yet");
        let first = Pin::new(&mut body).poll_next(&mut cx);
        assert!(matches!(first, Poll::Ready(Some(Ok(piece))) if piece.len() == STEP));
        lines.look();
        assert!(connection.is_cut());
    }

    #[test]
    fn few_descriptors_leave_half_for_files() {
        let lines = Lines::new(256, None, Duration::from_secs(1800), vec![]);
        assert_eq!(lines.most(), 128);
        assert_eq!(Lines::new(u64::MAX, None, Duration::from_secs(1), vec![]).most(), 16_384);
    }

    #[test]
    fn who_stands_still_is_cut_sooner_where_lines_are_scarce() {
        let lines = Arc::new(Lines::new(1 << 20, Some(8), Duration::from_millis(0), vec![]));
        let still = lines.one(IpAddr::from([192, 0, 2, 1])).unwrap();
        let patient = lines.one(IpAddr::from([192, 0, 2, 2])).unwrap();
        patient.be_patient();
        let goes = lines.one(IpAddr::from([192, 0, 2, 3])).unwrap();
        let slow = lines.one(IpAddr::from([192, 0, 2, 4])).unwrap();
        let all = [&still, &patient, &goes, &slow];
        all.iter().for_each(|line| line.waits(Waker::noop(), || Some(7)));
        goes.goes_on();
        lines.look();
        // Each looks once more: of the slow one's bytes some were taken meanwhile.
        for line in all {
            let held = if Arc::ptr_eq(line, &slow) { 6 } else { 7 };
            line.waits(Waker::noop(), || Some(held));
        }
        assert_eq!(all.map(|l| l.is_cut()), [true, false, false, false]);
        assert_eq!(lines.cut(), 1);
    }
}
