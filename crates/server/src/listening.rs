//! Plain connections, with two things that the framework's own do not have.
//!
//! A look at the beginning of each request: an address with a fragment (`#`) is cut off by the parser, and
//! what is asked for then is something else than what was meant. RFC 9112, section 3.2, leaves no room for one
//! in a request.
//!
//! Large files straight from the disk's cache to the socket ([`Outlet`]): the body of such an answer is a stream
//! that brings no bytes and ends when the connection has sent them. Between head and end nothing else is written,
//! so the order holds.

use actix_http::{HttpService, Protocol, Request};
use actix_service::{IntoServiceFactory, Service, ServiceFactory, ServiceFactoryExt, fn_service, map_config};
use actix_web::body::MessageBody;
use actix_web::dev::{AppConfig, Extensions, Response, Server};
use actix_web::http::Method;
use actix_web::rt::net::TcpStream;
use actix_web::{Error, HttpRequest};
use parking_lot::Mutex;
use std::fs::File;
use std::io;
use std::net::TcpListener;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, Waker};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, Interest, ReadBuf};

/// A connection whose requests are looked at.
pub struct Watched {
    io: TcpStream,
    /// Nothing has come since the last answer: what comes next is the beginning of a request.
    fresh: bool,
    fragment: Arc<AtomicBool>,
    outlet: Outlet,
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
}

/// The outlet of the connection by which a request came; none where bytes are encrypted on their way.
pub fn outlet(request: &HttpRequest) -> Option<Outlet> {
    request.conn_data::<Outlet>().cloned()
}

impl Outlet {
    /// Sends a part of a file; ends when the kernel has all of it.
    pub async fn send(&self, file: Arc<File>, at: u64, length: u64) -> io::Result<()> {
        {
            let mut slot = self.0.lock();
            slot.failed = None;
            slot.job = Some(Job { file, at, left: length });
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
            let sent = match self.io.poll_write_ready(cx) {
                Poll::Pending => return Poll::Pending,
                Poll::Ready(Err(e)) => Err(e),
                Poll::Ready(Ok(())) => self.io.try_io(Interest::WRITABLE, || {
                    let count = usize::try_from(job.left).unwrap_or(usize::MAX).min(8 << 20);
                    Ok(rustix::fs::sendfile(&self.io, &job.file, Some(&mut job.at), count)?)
                }),
            };
            match sent {
                // The file is shorter than it was: the caller is told, and the line breaks.
                Ok(0) => slot.failed = Some(io::ErrorKind::UnexpectedEof.into()),
                Ok(n) => job.left -= n as u64,
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => continue,
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

/// Whether the address of the request under way had a fragment.
#[derive(Clone)]
struct Seen(Arc<AtomicBool>);

/// Whether the address of this request had a fragment.
pub fn has_fragment(request: &HttpRequest) -> bool {
    request.conn_data::<Seen>().is_some_and(|seen| seen.0.load(Ordering::Relaxed))
}

fn begins_with_fragment(bytes: &[u8]) -> bool {
    let line = bytes.split(|b| *b == b'\r' || *b == b'\n').next().unwrap_or_default();
    let mut parts = line.split(|b| *b == b' ');
    let method = parts.next().unwrap_or_default();
    Method::from_bytes(method).is_ok() && parts.next().is_some_and(|address| address.contains(&b'#'))
}

impl AsyncRead for Watched {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        let read = Pin::new(&mut self.io).poll_read(cx, buf);
        if self.fresh && buf.filled().len() > before {
            self.fresh = false;
            self.fragment.store(begins_with_fragment(&buf.filled()[before..]), Ordering::Relaxed);
        }
        read
    }
}

impl AsyncWrite for Watched {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.fresh = true;
        Pin::new(&mut self.io).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        std::task::ready!(self.poll_outlet(cx))?;
        Pin::new(&mut self.io).poll_flush(cx)
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
        Pin::new(&mut self.io).poll_write_vectored(cx, bytes)
    }

    fn is_write_vectored(&self) -> bool {
        self.io.is_write_vectored()
    }
}

/// Serves an application on a listener, as the framework's own server does.
pub fn serve<F, I, S, B>(listener: TcpListener, workers: usize, app: F) -> io::Result<Server>
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
                data.insert(Seen(io.fragment.clone()));
                data.insert(io.outlet.clone());
            })
            .finish(map_config(app, |()| AppConfig::default()));
        fn_service(|io: TcpStream| async move {
            // Small answers must not wait for what the other side delays.
            let _ = io.set_nodelay(true);
            let peer = io.peer_addr().ok();
            let watched = Watched { io, fresh: true, fragment: Arc::default(), outlet: Outlet::default() };
            Ok((watched, Protocol::Http1, peer))
        })
        .and_then(http)
    })?;
    Ok(builder.run())
}
