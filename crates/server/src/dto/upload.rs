//! Uploads.

use crate::http::times::show;
use yellow_attic_api as api;
use yellow_attic_store::timeline::uploads::Upload;

/// An upload as it is told.
pub fn upload_to_api(upload: &Upload) -> api::Upload {
    api::Upload {
        id: upload.id.clone(),
        parent: upload.new.parent.0,
        name: upload.new.name.to_string(),
        size: if upload.new.open_length { upload.received } else { upload.new.size },
        open: upload.new.open_length,
        received: upload.received,
        modified: upload.new.mtime.map(show),
        blake3: upload.new.hash.map(|hash| yellow_attic_store::fs::disk::hex(&hash)),
        begun: show(upload.made_at),
        expires: show(upload.expires_at),
    }
}
