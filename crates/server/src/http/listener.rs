//! Connections, plain or over TLS, with two things that the framework's own do not have.
//!
//! A look at the beginning of each request: an address with a fragment (`#`) is cut off by the parser, and
//! what is asked for then is something else than what was meant. RFC 9112, section 3.2, leaves no room for one
//! in a request.
//!
//! Large files straight from the disk's cache to the socket, or to the cipher ([`Outlet`]): the body of such an
//! answer is a stream that brings no bytes and ends when the connection has sent them. Between head and end nothing
//! else is written, so the order holds. Not over HTTP/2, where answers take turns.

use crate::http::lines::{Line, Lines};
use crate::http::tls::Ways;
use actix_http::error::DispatchError;
use actix_http::{HttpService, Protocol, Request};
use actix_service::{IntoServiceFactory, Service, ServiceFactory, ServiceFactoryExt, fn_service, map_config};
use actix_web::body::MessageBody;
use actix_web::dev::{AppConfig, Extensions, Response, Server};
use actix_web::http::Method;
use actix_web::rt::net::TcpStream;
use actix_web::{Error, HttpMessage, HttpRequest};
use parking_lot::Mutex;
use std::collections::VecDeque;
use std::fs::File;
use std::io;
use std::net::TcpListener;
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::FileExt;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, Interest, ReadBuf};
use tokio_rustls::server::TlsStream;

/// So long the beginning of a connection over TLS may take.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// So much of a file is handed to the cipher at a time.
const TLS_BLOCK: usize = 128 << 10;

/// A connection whose requests are looked at.
pub struct Watched {
    io: Wire,
    /// Something was answered since the last look.
    fresh: bool,
    heads: Heads,
    fragments: Arc<Mutex<VecDeque<bool>>>,
    outlet: Outlet,
    /// One answer has it for itself until its end.
    alone: bool,
    line: Arc<Line>,
}

/// Where a handler leaves a part of a file for its connection to send.
#[derive(Clone, Default)]
pub struct Outlet(Arc<Mutex<Slot>>);

#[derive(Default)]
struct Slot {
    job: Option<Job>,
    failed: Option<io::Error>,
    /// Whoever waits for the job's end.
    waker: Option<Waker>,
}

struct Job {
    file: Arc<File>,
    at: u64,
    left: u64,
    /// Read, and not yet taken by the cipher.
    block: Vec<u8>,
    taken: usize,
}

/// What carries a connection.
enum Wire {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
}

impl Wire {
    fn socket(&self) -> BorrowedFd<'_> {
        match self {
            Wire::Plain(io) => io.as_fd(),
            Wire::Tls(io) => io.get_ref().0.as_fd(),
        }
    }

    /// Sends of a part of a file what the line takes just now: how many bytes. None at its end.
    fn poll_send(&mut self, cx: &mut Context<'_>, job: &mut Job) -> Poll<io::Result<usize>> {
        match self {
            Wire::Plain(io) => loop {
                ready!(io.poll_write_ready(cx))?;
                let sent = io.try_io(Interest::WRITABLE, || {
                    let count = usize::try_from(job.left).unwrap_or(usize::MAX).min(8 << 20);
                    Ok(rustix::fs::sendfile(&*io, &job.file, Some(&mut job.at), count)?)
                });
                match sent {
                    Err(e) if e.kind() == io::ErrorKind::WouldBlock => {}
                    other => return Poll::Ready(other),
                }
            },
            Wire::Tls(io) => {
                if job.taken == job.block.len() {
                    let count = usize::try_from(job.left).unwrap_or(usize::MAX).min(TLS_BLOCK);
                    job.block.resize(count, 0);
                    let got = job.file.read_at(&mut job.block, job.at)?;
                    job.block.truncate(got);
                    (job.at, job.taken) = (job.at + got as u64, 0);
                    if got == 0 {
                        return Poll::Ready(Ok(0));
                    }
                }
                let sent = ready!(Pin::new(io).poll_write(cx, &job.block[job.taken..]))?;
                job.taken += sent;
                Poll::Ready(Ok(sent))
            }
        }
    }
}

/// The outlet of the connection by which a request came; none over HTTP/2.
pub fn outlet(request: &HttpRequest) -> Option<Outlet> {
    request.conn_data::<Outlet>().cloned()
}

impl Outlet {
    /// Sends a part of a file; ends when the kernel has all of it.
    pub async fn send(&self, file: Arc<File>, at: u64, length: u64) -> io::Result<()> {
        {
            let mut slot = self.0.lock();
            slot.failed = None;
            slot.job = Some(Job { file, at, left: length, block: Vec::new(), taken: 0 });
        }
        std::future::poll_fn(|cx| {
            let mut slot = self.0.lock();
            if let Some(e) = slot.failed.take() {
                return Poll::Ready(Err(e));
            }
            if slot.job.is_none() {
                return Poll::Ready(Ok(()));
            }
            slot.waker = Some(cx.waker().clone());
            Poll::Pending
        })
        .await
    }
}

impl Watched {
    /// Sends what the outlet holds, as far as the socket takes it.
    fn poll_outlet(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let mut slot = self.outlet.0.lock();
        while let Some(job) = &mut slot.job {
            match ready!(self.io.poll_send(cx, job)) {
                // The file is shorter than it was: the caller is told, and the line breaks.
                Ok(0) => slot.failed = Some(io::ErrorKind::UnexpectedEof.into()),
                Ok(n) => {
                    job.left -= n as u64;
                    // Slow is not still.
                    self.line.goes_on();
                }
                Err(e) => slot.failed = Some(e),
            }
            if slot.failed.is_some() || slot.job.as_ref().is_some_and(|j| j.left == 0) {
                slot.job = None;
            }
        }
        if let Some(waker) = slot.waker.take() {
            waker.wake();
        }
        Poll::Ready(Ok(()))
    }
}

/// The line by which a request came.
pub fn line(request: &HttpRequest) -> Option<Arc<Line>> {
    request.conn_data::<Arc<Line>>().cloned()
}

/// Whether the addresses of the requests that came had fragments, oldest first.
#[derive(Clone)]
struct Seen(Arc<Mutex<VecDeque<bool>>>);

/// The address of this request had a fragment.
struct Fragment;

/// Notes whether the address of a request had a fragment: once for each, in their order.
pub fn note_fragment(request: &HttpRequest) -> bool {
    let had = request.conn_data::<Seen>().is_some_and(|seen| seen.0.lock().pop_front().unwrap_or(false));
    if had {
        request.extensions_mut().insert(Fragment);
    }
    had
}

/// Whether the address of this request had a fragment.
pub fn has_fragment(request: &HttpRequest) -> bool {
    request.extensions().contains::<Fragment>()
}

/// The longest head of a request that is looked at; the parser refuses longer ones.
const LONGEST_HEAD: usize = 128 << 10;

/// Follows the heads of requests on a line, those that come before the one before is answered too.
#[derive(Default)]
struct Heads {
    /// Of the head that is coming.
    head: Vec<u8>,
    /// Bytes of a body that come before the next head.
    body: u64,
    /// Where the next head begins is not known until something was answered.
    lost: bool,
}

impl Heads {
    /// Looks at bytes as they come, and notes for each head that is whole whether its address had a fragment.
    fn look(&mut self, mut bytes: &[u8], note: &mut VecDeque<bool>) {
        while !bytes.is_empty() && !self.lost {
            if self.body > 0 {
                let some = usize::try_from(self.body).unwrap_or(usize::MAX).min(bytes.len());
                self.body -= some as u64;
                bytes = &bytes[some..];
                continue;
            }
            let from = self.head.len().saturating_sub(3);
            self.head.extend_from_slice(bytes);
            let Some(end) = self.head[from..].windows(4).position(|w| w == b"\r\n\r\n").map(|i| from + i + 4)
            else {
                if self.head.len() > LONGEST_HEAD {
                    self.get_lost();
                }
                return;
            };
            bytes = &bytes[bytes.len() - (self.head.len() - end)..];
            self.head.truncate(end);
            note.push_back(address_has_fragment(&self.head));
            match body_of(&self.head) {
                Some(length) => self.body = length,
                None => self.get_lost(),
            }
            self.head.clear();
        }
    }

    fn get_lost(&mut self) {
        (self.lost, self.head, self.body) = (true, Vec::new(), 0);
    }
}

fn address_has_fragment(head: &[u8]) -> bool {
    let lines = head.split(|b| *b == b'\r' || *b == b'\n');
    let line = lines.into_iter().find(|l| !l.is_empty()).unwrap_or_default();
    let mut parts = line.split(|b| *b == b' ');
    let method = parts.next().unwrap_or_default();
    Method::from_bytes(method).is_ok() && parts.next().is_some_and(|address| address.contains(&b'#'))
}

/// How many bytes of body follow a head; none where that is not said in advance.
fn body_of(head: &[u8]) -> Option<u64> {
    let mut length = 0;
    for line in head.split(|b| *b == b'\n').skip(1) {
        // Few names begin so: most lines are told by their first letter.
        if !matches!(line.first(), Some(b'c' | b'C' | b't' | b'T' | b'u' | b'U')) {
            continue;
        }
        let Some(colon) = line.iter().position(|b| *b == b':') else { continue };
        let (name, value) = (line[..colon].trim_ascii(), line[colon + 1..].trim_ascii());
        if name.eq_ignore_ascii_case(b"content-length") {
            length = std::str::from_utf8(value).ok()?.parse().ok()?;
        } else if name.eq_ignore_ascii_case(b"transfer-encoding") || name.eq_ignore_ascii_case(b"upgrade") {
            return None;
        }
    }
    Some(length)
}

impl AsyncRead for Wire {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Wire::Plain(io) => Pin::new(io).poll_read(cx, buf),
            Wire::Tls(io) => Pin::new(io).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for Wire {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Wire::Plain(io) => Pin::new(io).poll_write(cx, bytes),
            Wire::Tls(io) => Pin::new(io).poll_write(cx, bytes),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Wire::Plain(io) => Pin::new(io).poll_flush(cx),
            Wire::Tls(io) => Pin::new(io).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Wire::Plain(io) => Pin::new(io).poll_shutdown(cx),
            Wire::Tls(io) => Pin::new(io).poll_shutdown(cx),
        }
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bytes: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Wire::Plain(io) => Pin::new(io).poll_write_vectored(cx, bytes),
            Wire::Tls(io) => Pin::new(io).poll_write_vectored(cx, bytes),
        }
    }

    fn is_write_vectored(&self) -> bool {
        match self {
            Wire::Plain(io) => io.is_write_vectored(),
            Wire::Tls(io) => io.is_write_vectored(),
        }
    }
}

impl AsyncRead for Watched {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        if !self.alone {
            // Answers take turns: one that stands still is found by its own pace, not by the socket's.
            self.line.wakes(cx.waker());
            if self.line.is_cut() {
                return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
            }
        }
        let read = Pin::new(&mut self.io).poll_read(cx, buf);
        if buf.filled().len() > before && self.alone {
            if std::mem::take(&mut self.fresh) && self.heads.lost {
                self.heads = Heads::default();
            }
            let fragments = self.fragments.clone();
            self.heads.look(&buf.filled()[before..], &mut fragments.lock());
        }
        read
    }
}

impl Watched {
    /// Notes whether the reader takes what is written; one that stood still for too long gets nothing more.
    fn noted<T>(&self, cx: &Context<'_>, done: Poll<io::Result<T>>) -> Poll<io::Result<T>> {
        match &done {
            Poll::Pending => {
                self.line.waits(cx.waker(), || yellow_attic_store::fs::process::queued(self.io.socket()));
            }
            Poll::Ready(_) => self.line.goes_on(),
        }
        if self.line.is_cut() {
            return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
        }
        done
    }
}

impl AsyncWrite for Watched {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.fresh = true;
        let written = Pin::new(&mut self.io).poll_write(cx, bytes);
        self.noted(cx, written)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let sent = self.poll_outlet(cx);
        std::task::ready!(self.noted(cx, sent))?;
        let flushed = Pin::new(&mut self.io).poll_flush(cx);
        self.noted(cx, flushed)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.io).poll_shutdown(cx)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bytes: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        self.fresh = true;
        let written = Pin::new(&mut self.io).poll_write_vectored(cx, bytes);
        self.noted(cx, written)
    }

    fn is_write_vectored(&self) -> bool {
        self.io.is_write_vectored()
    }
}

/// Begins a connection: over TLS with the handshake.
async fn begin(io: TcpStream, ways: Option<Ways>) -> io::Result<(Wire, Protocol)> {
    // Small answers must not wait for what the other side delays.
    let _ = io.set_nodelay(true);
    let Some(ways) = ways else { return Ok((Wire::Plain(io), Protocol::Http1)) };
    let handshake = async {
        let start = tokio_rustls::LazyConfigAcceptor::new(rustls::server::Acceptor::default(), io).await?;
        let way = ways.of(&start.client_hello());
        start.into_stream(way).await
    };
    let mut stream = tokio::time::timeout(HANDSHAKE, handshake).await.map_err(io::Error::other)??;
    stream.get_mut().1.set_buffer_limit(Some(2 * TLS_BLOCK));
    let protocol = match stream.get_ref().1.alpn_protocol() {
        Some(b"h2") => Protocol::Http2,
        _ => Protocol::Http1,
    };
    Ok((Wire::Tls(Box::new(stream)), protocol))
}

/// Serves an application on a listener, as the framework's own server does.
pub fn serve<F, I, S, B>(
    listener: TcpListener,
    workers: usize,
    tls: Option<Ways>,
    lines: Arc<Lines>,
    app: F,
) -> io::Result<Server>
where
    F: Fn() -> I + Send + Clone + 'static,
    I: IntoServiceFactory<S, Request>,
    S: ServiceFactory<Request, Config = AppConfig> + 'static,
    S::Error: Into<Error> + 'static,
    S::InitError: std::fmt::Debug,
    S::Response: Into<Response<B>> + 'static,
    <S::Service as Service<Request>>::Future: 'static,
    S::Service: 'static,
    B: MessageBody + 'static,
{
    let builder = Server::build().workers(workers).shutdown_timeout(20).disable_signals();
    let stopping = builder.graceful_shutdown_signal();
    let at = listener.local_addr()?;
    let builder = builder.listen("attic", listener, move || {
        let stopping = stopping.clone();
        let app = app().into_factory().map_err(|e| e.into().error_response());
        let http = HttpService::build()
            .graceful_shutdown_signal(move || {
                let stopping = stopping.clone();
                async move { stopping.notified().await }
            })
            .keep_alive(Duration::from_secs(75))
            .client_request_timeout(Duration::from_secs(5))
            .client_disconnect_timeout(Duration::from_secs(1))
            .h1_allow_half_closed(true)
            .local_addr(at)
            .on_connect_ext(|io: &Watched, data: &mut Extensions| {
                data.insert(Seen(io.fragments.clone()));
                data.insert(io.line.clone());
                if io.alone {
                    data.insert(io.outlet.clone());
                }
            })
            .finish(map_config(app, |()| AppConfig::default()));
        let (tls, lines) = (tls.clone(), lines.clone());
        fn_service(move |io: TcpStream| {
            let (peer, tls, lines) = (io.peer_addr().ok(), tls.clone(), lines.clone());
            async move {
                let line = peer.and_then(|peer| lines.one(peer.ip()));
                let line = line.ok_or_else(|| DispatchError::Io(io::ErrorKind::ConnectionRefused.into()))?;
                let (io, protocol) = begin(io, tls).await.map_err(DispatchError::Io)?;
                let watched = Watched {
                    io,
                    fresh: true,
                    heads: Heads::default(),
                    fragments: Arc::default(),
                    outlet: Outlet::default(),
                    alone: protocol == Protocol::Http1,
                    line,
                };
                Ok((watched, protocol, peer))
            }
        })
        .and_then(http)
    })?;
    Ok(builder.run())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fragments_are_seen_in_every_request_of_a_line_however_it_is_cut() {
        let line = b"GET /a HTTP/1.1\r\nHost: x\r\n\r\nGET /b#c HTTP/1.1\r\nHost: x\r\n\r\n\
            PUT /d HTTP/1.1\r\nContent-Length: 31\r\n\r\nGET /in#body HTTP/1.1\r\n\r\n######GET /e#f HTTP/1.1\r\n\r\n";
        for cut in 1..line.len() {
            let (mut heads, mut noted) = (Heads::default(), VecDeque::new());
            for piece in line.chunks(cut) {
                heads.look(piece, &mut noted);
            }
            assert_eq!(noted, [false, true, false, true], "in pieces of {cut}");
        }
    }
}
