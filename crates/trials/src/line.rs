//! A line that breaks: a proxy before the service that cuts connections after some bytes, and refuses new ones for a
//! while.

use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// A line that is cut.
pub struct Line {
    /// Where it is reached.
    pub address: String,
    target: Arc<Mutex<SocketAddr>>,
    /// How many connections were cut.
    pub cuts: Arc<AtomicU64>,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Line {
    /// Cuts every connection after a number of bytes up that a generator gives, until it gives none.
    pub fn to(service: &str, next_cut: impl FnMut() -> Option<u64> + Send + 'static) -> Line {
        Line::on("127.0.0.1", service, next_cut)
    }

    /// The same, reached at another address of this machine.
    pub fn on(host: &str, service: &str, next_cut: impl FnMut() -> Option<u64> + Send + 'static) -> Line {
        let listener = TcpListener::bind((host, 0)).expect("a port");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let target = Arc::new(Mutex::new(aim_of(service)));
        let (cuts, aim) = (Arc::new(AtomicU64::new(0)), target.clone());
        let open: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
        let opened = open.clone();
        let (counted, next_cut) = (cuts.clone(), Arc::new(Mutex::new(next_cut)));
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                let target = *aim.lock().expect("a target");
                let Ok(far) = TcpStream::connect_timeout(&target, Duration::from_secs(2)) else { continue };
                opened.lock().expect("a list").extend(near.try_clone());
                let (cuts, next_cut) = (counted.clone(), next_cut.clone());
                std::thread::spawn(move || {
                    carry(near, far, &mut *next_cut.lock().expect("a generator"), &cuts)
                });
            }
        });
        Line { address, target, cuts, open }
    }

    /// Cuts all connections at once after a number of bytes in both directions together, and refuses new ones for so
    /// many milliseconds; then the next pair counts, until there is none.
    pub fn refusing(service: &str, next: impl FnMut() -> Option<(u64, u64)> + Send + 'static) -> Line {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let here = listener.local_addr().expect("an address");
        let target = Arc::new(Mutex::new(aim_of(service)));
        let (cuts, aim) = (Arc::new(AtomicU64::new(0)), target.clone());
        let open: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
        let (counted, opened) = (cuts.clone(), open.clone());
        std::thread::spawn(move || refuse(listener, here, &aim, &counted, &opened, next));
        Line { address: format!("http://{here}"), target, cuts, open }
    }

    /// Cuts every connection that there is.
    pub fn cut_all(&self) {
        shut(&self.open);
    }

    /// The service came back elsewhere.
    pub fn lead_to(&self, service: &str) {
        *self.target.lock().expect("a target") = aim_of(service);
    }
}

fn aim_of(service: &str) -> SocketAddr {
    service.trim_start_matches("http://").parse().expect("an address")
}

fn shut(open: &Mutex<Vec<TcpStream>>) {
    for open in open.lock().expect("a list").drain(..) {
        let _ = open.shutdown(Shutdown::Both);
    }
}

fn refuse(
    mut listener: TcpListener,
    here: SocketAddr,
    aim: &Mutex<SocketAddr>,
    cuts: &AtomicU64,
    open: &Arc<Mutex<Vec<TcpStream>>>,
    mut next: impl FnMut() -> Option<(u64, u64)>,
) {
    let left = Arc::new(AtomicI64::new(i64::MAX));
    let mut refuses = None;
    let mut arm = |left: &AtomicI64| {
        let cut = next();
        left.store(cut.map_or(i64::MAX, |(bytes, _)| bytes as i64), Ordering::SeqCst);
        cut.map(|(_, ms)| Duration::from_millis(ms))
    };
    refuses = arm(&left).or(refuses);
    loop {
        if left.load(Ordering::SeqCst) <= 0 {
            cuts.fetch_add(1, Ordering::SeqCst);
            drop(listener);
            shut(open);
            std::thread::sleep(refuses.unwrap_or_default());
            let begun = Instant::now();
            listener = loop {
                match TcpListener::bind(here) {
                    Ok(listener) => break listener,
                    Err(e) => assert!(begun.elapsed() < Duration::from_secs(20), "{e}"),
                }
                std::thread::sleep(Duration::from_millis(5));
            };
            refuses = arm(&left);
        }
        listener.set_nonblocking(true).expect("a socket that does not block");
        match listener.accept() {
            Ok((near, _)) => {
                let _ = near.set_nonblocking(false);
                let target = *aim.lock().expect("a target");
                let Ok(far) = TcpStream::connect_timeout(&target, Duration::from_secs(2)) else { continue };
                open.lock().expect("a list").extend(near.try_clone().into_iter().chain(far.try_clone()));
                for (from, to) in [(near.try_clone(), far.try_clone()), (far.try_clone(), near.try_clone())] {
                    let (Ok(from), Ok(to), left) = (from, to, left.clone()) else { continue };
                    std::thread::spawn(move || pass(from, to, &left));
                }
            }
            Err(_) => std::thread::sleep(Duration::from_millis(1)),
        }
    }
}

fn pass(mut from: TcpStream, mut to: TcpStream, left: &AtomicI64) {
    let mut piece = vec![0; 16 * 1024];
    while let Ok(n) = from.read(&mut piece) {
        if n == 0 || left.load(Ordering::SeqCst) <= 0 || to.write_all(&piece[..n]).is_err() {
            break;
        }
        left.fetch_sub(n as i64, Ordering::SeqCst);
    }
    let _ = to.shutdown(Shutdown::Write);
}

fn carry(near: TcpStream, far: TcpStream, next: &mut dyn FnMut() -> Option<u64>, cuts: &Arc<AtomicU64>) {
    let limit = next();
    let (Ok(mut down_from), Ok(mut down_to)) = (far.try_clone(), near.try_clone()) else { return };
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut down_from, &mut down_to);
        let _ = down_to.shutdown(Shutdown::Both);
    });
    let cuts = cuts.clone();
    std::thread::spawn(move || {
        let (mut near, mut far) = (near, far);
        let mut left = limit.unwrap_or(u64::MAX);
        let mut piece = vec![0; 16 * 1024];
        while let Ok(n) = near.read(&mut piece) {
            if n == 0 || far.write_all(&piece[..n.min(left as usize)]).is_err() {
                break;
            }
            left = left.saturating_sub(n as u64);
            if left == 0 {
                cuts.fetch_add(1, Ordering::SeqCst);
                break;
            }
        }
        let _ = far.shutdown(Shutdown::Both);
        let _ = near.shutdown(Shutdown::Both);
    });
}
