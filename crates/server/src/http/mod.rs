//! What any request is: problems, times, bodies, conditions, connections, TLS.

pub mod body;
pub mod conditions;
pub mod encoding;
pub mod lines;
pub mod listener;
pub mod patience;
pub mod problem;
pub mod qr;
pub mod refusals;
pub mod times;
pub mod tls;
pub mod words;
