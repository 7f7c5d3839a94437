//! What works on the disk behind the answers: placing, filing, packing, and jobs in steps.

pub(crate) mod dirs;
pub(crate) mod filer;
mod gathering;
pub(crate) mod jobs;
pub(crate) mod packer;
pub(crate) mod packs;
pub(crate) mod past;
pub(crate) mod placer;
pub(crate) mod placing;
mod tidying;
