//! Under which addresses requests came.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// Addresses that are remembered.
pub const MOST: usize = 50;

/// The longest of them.
pub const LONGEST: usize = 200;

/// Under which addresses requests came, and what forwarded headers were not believed.
#[derive(Default)]
pub struct Seen(pub Mutex<Noted>);

#[derive(Default)]
pub struct Noted {
    pub addresses: HashMap<String, (u64, i64)>,
    /// Who forwards and is not trusted.
    pub untrusted: HashMap<std::net::IpAddr, u64>,
}

impl Seen {
    /// Who passes requests on and is not trusted.
    pub fn untrusted(&self) -> Vec<std::net::IpAddr> {
        let noted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut all: Vec<_> = noted.untrusted.keys().copied().collect();
        all.sort();
        all
    }
}
