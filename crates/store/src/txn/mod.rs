//! One group of operations: gathered, staged, decided, committed; and what readers share.

pub(crate) mod commit;
pub(crate) mod operation;
pub(crate) mod owed;
pub(crate) mod quota_checks;
pub(crate) mod read_cache;
pub(crate) mod save_heuristics;
pub(crate) mod so_far;
pub(crate) mod sums;
pub(crate) mod write_txn;
pub(crate) mod writer;
