//! A line that breaks: a proxy before the service that cuts connections after some bytes.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

pub struct Line {
    pub address: String,
    target: Arc<Mutex<SocketAddr>>,
    /// How many connections were cut.
    pub cuts: Arc<AtomicU64>,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Line {
    /// Cuts every connection after a number of bytes up that a generator gives, until it gives none.
    pub fn to(service: &str, next_cut: impl FnMut() -> Option<u64> + Send + 'static) -> Line {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let target = Arc::new(Mutex::new(service.trim_start_matches("http://").parse().unwrap()));
        let (cuts, aim) = (Arc::new(AtomicU64::new(0)), target.clone());
        let open: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
        let opened = open.clone();
        let (counted, next_cut) = (cuts.clone(), Arc::new(Mutex::new(next_cut)));
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                let target = *aim.lock().unwrap();
                let Ok(far) = TcpStream::connect_timeout(&target, Duration::from_secs(2)) else { continue };
                opened.lock().unwrap().extend(near.try_clone());
                let (cuts, next_cut) = (counted.clone(), next_cut.clone());
                std::thread::spawn(move || carry(near, far, &mut *next_cut.lock().unwrap(), &cuts));
            }
        });
        Line { address, target, cuts, open }
    }

    /// Cuts every connection that there is.
    pub fn cut_all(&self) {
        for open in self.open.lock().unwrap().drain(..) {
            let _ = open.shutdown(std::net::Shutdown::Both);
        }
    }

    /// The service came back elsewhere.
    pub fn lead_to(&self, service: &str) {
        *self.target.lock().unwrap() = service.trim_start_matches("http://").parse().unwrap();
    }
}

fn carry(near: TcpStream, far: TcpStream, next: &mut dyn FnMut() -> Option<u64>, cuts: &Arc<AtomicU64>) {
    let limit = next();
    let (mut down_from, mut down_to) = (far.try_clone().unwrap(), near.try_clone().unwrap());
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut down_from, &mut down_to);
        let _ = down_to.shutdown(std::net::Shutdown::Both);
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
        let _ = far.shutdown(std::net::Shutdown::Both);
        let _ = near.shutdown(std::net::Shutdown::Both);
    });
}

/// Numbers that look random and are the same each time.
pub fn numbers(mut seed: u64) -> impl FnMut(u64) -> u64 {
    move |below| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % below
    }
}
