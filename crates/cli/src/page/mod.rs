//! The computer's own page: what `yattic sync run` shows of itself on this computer, and to nobody else.
//!
//! It is asked in two ways. Over a socket in the folder of the pairs by the commands and the file manager of the same
//! account; and by a browser over loopback, which has to show a cookie that it gets for a code, and the code only this account
//! can ask for ([`guard`]). Both ask the same ([`acts`], [`looks`]).

mod acts;
pub mod ask;
pub mod guard;
mod looks;

use axum::Router;
use axum::response::{IntoResponse, Response};
use axum::routing::{delete, get, post, put};
use axum::serve::Listener;
use guard::Guard;
use http::StatusCode;
use std::os::fd::AsRawFd;
use std::sync::Arc;
use tokio::net::{TcpListener, UnixListener, UnixStream};
use yellow_attic_sync::computer::Refused;
use yellow_attic_sync::computer::keeper::Keeper;

/// The socket's name in the folder of the pairs.
const SOCKET: &str = "socket";

/// What every answer is made from.
pub struct Here {
    /// The pairs at work.
    pub keeper: Arc<Keeper>,
    /// Who may ask.
    guard: Guard,
}

pub type Known = axum::extract::State<Arc<Here>>;

/// A refusal, as an answer.
pub struct No(StatusCode, Refused);

impl From<Refused> for No {
    fn from(refused: Refused) -> No {
        let status = match refused.code {
            "no_such_pair" | "not_there" => StatusCode::NOT_FOUND,
            "service_away" | "keyring_locked" => StatusCode::SERVICE_UNAVAILABLE,
            _ => StatusCode::CONFLICT,
        };
        No(status, refused)
    }
}

impl IntoResponse for No {
    fn into_response(self) -> Response {
        let No(status, Refused { code, says, remedy }) = self;
        let body =
            serde_json::json!({ "status": status.as_u16(), "code": code, "detail": says, "remedy": remedy });
        (status, axum::Json(body)).into_response()
    }
}

pub type Answer<T> = Result<axum::Json<T>, No>;

/// What both may ask.
fn common() -> Router<Arc<Here>> {
    Router::new()
        .route("/here/now", get(looks::now))
        .route("/here/events", get(looks::events))
        .route("/here/folders", get(looks::folders).post(acts::make_folder))
        .route("/here/places", get(looks::places))
        .route("/here/bytes", get(looks::bytes))
        .route("/here/mark", get(looks::mark))
        .route("/here/pairs", post(acts::add))
        .route("/here/pairs/preview", post(acts::preview))
        .route("/here/pairs/{id}", delete(acts::end))
        .route("/here/pairs/{id}/filter", put(acts::set_filter))
        .route("/here/pairs/{id}/filter/preview", post(acts::preview_filter))
        .route("/here/pairs/{id}/allow", post(acts::allow))
        .route("/here/pause", post(acts::pause))
        .route("/here/limits", put(acts::set_limits))
        .route("/here/settle", post(acts::settle))
        .fallback(async || No(StatusCode::NOT_FOUND, Refused::new("not_there", "there is no such page", "")))
}

/// Connections of this account alone.
struct Own(UnixListener);

impl Listener for Own {
    type Io = UnixStream;
    type Addr = ();

    async fn accept(&mut self) -> (UnixStream, ()) {
        loop {
            match self.0.accept().await {
                Ok((stream, _)) => {
                    let peer = rustix::net::sockopt::socket_peercred(&stream);
                    if peer.is_ok_and(|peer| peer.uid == rustix::process::getuid()) {
                        return (stream, ());
                    }
                }
                Err(_) => tokio::time::sleep(std::time::Duration::from_millis(200)).await,
            }
        }
    }

    fn local_addr(&self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Answers as long as it is not dropped.
pub struct Page {
    tasks: [tokio::task::JoinHandle<()>; 2],
}

impl Drop for Page {
    fn drop(&mut self) {
        self.tasks.iter().for_each(tokio::task::JoinHandle::abort);
    }
}

/// Begins to answer, on the socket and on a free port of loopback.
pub async fn serve(keeper: Arc<Keeper>) -> std::io::Result<Page> {
    // By its folder's handle: the name of a socket may only be short.
    let folder = std::fs::File::open(&keeper.computer.folder)?;
    let path = format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd());
    let _ = std::fs::remove_file(&path);
    let socket = UnixListener::bind(&path)?;
    drop(folder);
    let loopback = TcpListener::bind(("127.0.0.1", 0)).await?;
    let guard = Guard::new(loopback.local_addr()?.port());
    let here = Arc::new(Here { keeper, guard });
    let own = common()
        .route("/here/code", post(guard::code))
        .route("/here/look", post(acts::look))
        .with_state(here.clone());
    let page = common()
        .route("/enter", post(guard::enter))
        .fallback(looks::built)
        .layer(axum::middleware::from_fn_with_state(here.clone(), guard::only_us))
        .with_state(here);
    let socket = tokio::spawn(async move {
        let _ = axum::serve(Own(socket), own).await;
    });
    let loopback = tokio::spawn(async move {
        let _ = axum::serve(loopback, page).await;
    });
    Ok(Page { tasks: [socket, loopback] })
}
