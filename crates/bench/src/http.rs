//! A client with as little of its own as possible: blocking sockets, one thread a connection.

use crate::cases::Failure;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// One connection, kept open.
pub struct Line {
    stream: TcpStream,
    buffer: Vec<u8>,
}

impl Line {
    /// Connects.
    pub fn open(to: SocketAddr) -> Result<Line, Failure> {
        let stream = TcpStream::connect(to)?;
        stream.set_nodelay(true)?;
        stream.set_read_timeout(Some(Duration::from_secs(120)))?;
        Ok(Line { stream, buffer: vec![0; 1 << 18] })
    }

    /// Sends a request with its body and reads the answer. Returns the status, and the body if it
    /// is wanted.
    pub fn ask(&mut self, head: &str, body: &[u8], keep: bool) -> Result<(u16, Vec<u8>), Failure> {
        let mut request = Vec::with_capacity(head.len() + body.len().min(1 << 16) + 4);
        request.extend_from_slice(head.as_bytes());
        if body.len() <= 1 << 16 {
            request.extend_from_slice(body);
            self.stream.write_all(&request)?;
        } else {
            self.stream.write_all(&request)?;
            self.stream.write_all(body)?;
        }
        self.answer(keep)
    }

    /// Sends a head only; the body is written by the caller.
    pub fn stream(&mut self) -> &mut TcpStream {
        &mut self.stream
    }

    /// Reads an answer.
    pub fn answer(&mut self, keep: bool) -> Result<(u16, Vec<u8>), Failure> {
        let mut filled = 0;
        let end = loop {
            let n = self.stream.read(&mut self.buffer[filled..])?;
            if n == 0 {
                return Err("the line broke".into());
            }
            filled += n;
            if let Some(at) = self.buffer[..filled].windows(4).position(|w| w == b"\r\n\r\n") {
                break at + 4;
            }
        };
        let head = String::from_utf8_lossy(&self.buffer[..end]).to_ascii_lowercase();
        let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).ok_or("no status")?;
        let length: usize = head
            .lines()
            .find_map(|l| l.strip_prefix("content-length:"))
            .and_then(|v| v.trim().parse().ok())
            .unwrap_or(0);
        let mut body = Vec::new();
        if keep {
            body.extend_from_slice(&self.buffer[end..filled]);
        }
        let mut got = filled - end;
        while got < length {
            let n = self.stream.read(&mut self.buffer)?;
            if n == 0 {
                return Err("the line broke".into());
            }
            got += n;
            if keep {
                body.extend_from_slice(&self.buffer[..n]);
            }
        }
        Ok((status, body))
    }
}

/// Asks many times over several connections; returns how many a second. `request`: the head and
/// body of number n.
pub fn many(
    to: SocketAddr,
    connections: usize,
    count: usize,
    request: &(dyn Fn(usize) -> (String, Vec<u8>) + Sync),
) -> Result<f64, Failure> {
    let next = AtomicUsize::new(0);
    let begun = Instant::now();
    let outcome: Result<Vec<()>, String> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..connections)
            .map(|_| {
                scope.spawn(|| -> Result<(), String> {
                    let mut line = Line::open(to).map_err(|e| e.to_string())?;
                    loop {
                        let n = next.fetch_add(1, Ordering::Relaxed);
                        if n >= count {
                            return Ok(());
                        }
                        let (head, body) = request(n);
                        let (status, answer) = line.ask(&head, &body, false).map_err(|e| e.to_string())?;
                        if !(200..300).contains(&status) {
                            return Err(format!("status {status}: {}", String::from_utf8_lossy(&answer)));
                        }
                    }
                })
            })
            .collect();
        threads.into_iter().map(|t| t.join().map_err(|_| "a thread failed".to_string())?).collect()
    });
    outcome?;
    Ok(count as f64 / begun.elapsed().as_secs_f64())
}
