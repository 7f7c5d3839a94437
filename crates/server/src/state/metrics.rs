//! What there is to watch, in Prometheus' text format: requests, bytes, the disk, what is owed.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};

/// How a request is counted.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub struct Asked {
    method: String,
    status: u16,
}

/// Counters that requests move.
pub struct Metrics {
    pub requests: Family<Asked, Counter>,
    pub seconds: Histogram,
    /// Bytes of files received.
    pub received: Counter,
    /// Bytes of files sent.
    pub sent: Counter,
    /// Pages and programs that follow changes.
    pub listeners: Gauge,
}

impl Default for Metrics {
    fn default() -> Metrics {
        Metrics {
            requests: Family::default(),
            // From a tenth of a millisecond to about 100 s.
            seconds: Histogram::new(exponential_buckets(0.0001, 4.0, 10)),
            received: Counter::default(),
            sent: Counter::default(),
            listeners: Gauge::default(),
        }
    }
}

impl Metrics {
    /// A request was answered.
    pub fn answered(&self, method: &str, status: u16, seconds: f64) {
        let known = ["GET", "HEAD", "PUT", "POST", "PATCH", "DELETE", "OPTIONS"];
        let method = known.iter().find(|m| **m == method).unwrap_or(&"other").to_string();
        self.requests.get_or_create(&Asked { method, status }).inc();
        self.seconds.observe(seconds);
    }
}
