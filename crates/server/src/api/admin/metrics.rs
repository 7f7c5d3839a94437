//! The figures there are to watch, as text.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, web};
use prometheus_client::collector::Collector;
use prometheus_client::encoding::text::encode;
use prometheus_client::encoding::{DescriptorEncoder, EncodeMetric};
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::registry::{Registry, Unit};
use yellow_attic_store::people::accounts::Role;

/// Looked at when asked: name, help, value.
#[derive(Debug)]
pub struct Now(pub Vec<(&'static str, &'static str, i64)>);

impl Collector for Now {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), std::fmt::Error> {
        for (name, help, value) in &self.0 {
            let gauge = ConstGauge::new(*value);
            gauge.encode(encoder.encode_descriptor(name, help, None, gauge.metric_type())?)?;
        }
        Ok(())
    }
}

/// Counted by the engine since its start: name, help, value.
#[derive(Debug)]
pub struct Done(pub Vec<(&'static str, &'static str, u64)>);

impl Collector for Done {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), std::fmt::Error> {
        for (name, help, value) in &self.0 {
            let counter = ConstCounter::new(*value);
            counter.encode(encoder.encode_descriptor(name, help, None, counter.metric_type())?)?;
        }
        Ok(())
    }
}

pub fn done(work: &yellow_attic_store::Work) -> Done {
    let of = |n: &std::sync::atomic::AtomicU64| n.load(std::sync::atomic::Ordering::Relaxed);
    Done(vec![
        ("writer_groups", "Groups of changes committed together", of(&work.groups)),
        ("writer_operations", "Changes in them", of(&work.operations)),
        ("writer_gathering_microseconds", "Waiting for callers to come back", of(&work.gathering_us)),
        ("writer_writing_microseconds", "Writing bytes to staging", of(&work.writing_us)),
        ("writer_syncing_microseconds", "Making staged bytes durable", of(&work.syncing_us)),
        ("writer_committing_microseconds", "Deciding and committing", of(&work.committing_us)),
    ])
}

/// All of it as text.
pub async fn text(state: &State) -> String {
    let engine = &state.engine;
    let (free, total) = engine.disk_space().unwrap_or_default();
    let size = |path: &str| std::fs::metadata(state.config.data.join(path)).map_or(0, |m| m.len() as i64);
    let mut sums = (0, 0, 0, 0);
    for shelf in engine.shelves() {
        if let Ok(Some(folder)) = engine.files().shelf_sums(shelf.root).await {
            sums = (
                sums.0 + folder.files,
                sums.1 + folder.folders,
                sums.2 + folder.bytes,
                sums.3 + folder.past_bytes,
            );
        }
    }
    let writable = engine.trouble().is_none() && engine.check_room(0).is_ok();
    let now = Now(vec![
        ("files", "Files there are now", sums.0),
        ("folders", "Folders there are now", sums.1),
        ("file_bytes", "Bytes of the files there are now", sums.2),
        ("history_bytes", "Bytes of past states", sums.3),
        ("disk_free_bytes", "Free bytes of the disk under the data folder", free as i64),
        ("disk_total_bytes", "Size of that disk", total as i64),
        ("catalogue_bytes", "Size of the catalogue", size("catalogue.db")),
        ("catalogue_log_bytes", "Size of the catalogue's write-ahead log", size("catalogue.db-wal")),
        ("reserved_bytes", "Bytes announced by uploads that have not arrived yet", engine.reserved() as i64),
        ("owed_renames", "Renames that the disk owes the catalogue", engine.owed() as i64),
        (
            "writable",
            "1 if changes are taken, 0 if the disk is full, read-only or in trouble",
            i64::from(writable),
        ),
    ]);
    let mut registry = Registry::with_prefix("yattic");
    let m = &state.metrics;
    registry.register("requests", "Requests answered", m.requests.clone());
    registry.register_with_unit("request", "Time until the answer began", Unit::Seconds, m.seconds.clone());
    registry.register("received_bytes", "Bytes of files received", m.received.clone());
    registry.register("sent_bytes", "Bytes of files sent", m.sent.clone());
    registry.register("listeners", "Pages and programs that follow changes", m.listeners.clone());
    registry.register_collector(Box::new(now));
    registry.register_collector(Box::new(done(engine.work())));
    let mut text = String::new();
    let _ = encode(&mut text, &registry);
    text
}

pub fn answer(text: String) -> HttpResponse {
    HttpResponse::Ok().content_type("application/openmetrics-text; version=1.0.0; charset=utf-8").body(text)
}

/// For administrators, on the service's own address; with a session or a computer's token.
pub async fn signed_in(state: web::Data<State>, who: Who) -> Result<HttpResponse, Refusal> {
    if who.account.role != Role::Administrator {
        return Err(refusals::ADMINISTRATORS_ONLY.of("Only an administrator can see the service's figures."));
    }
    Ok(answer(text(&state).await))
}

/// On an address of its own: whoever reaches it may read.
pub async fn open(state: web::Data<State>) -> HttpResponse {
    answer(text(&state).await)
}
