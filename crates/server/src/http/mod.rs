//! What any request is: problems, times, bodies, conditions, connections, TLS.

pub mod body;
pub mod conditions;
pub mod lines;
pub mod listener;
pub mod patience;
pub mod problem;
pub mod times;
pub mod tls;
