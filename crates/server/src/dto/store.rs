//! How safe what was answered is.

use yellow_attic_store::Durability;

/// What a file system promises, as a word and in words.
pub fn promise_of(durability: &Durability) -> (&'static str, String) {
    match durability {
        Durability::Journal(kind) | Durability::EachFile(kind) => {
            ("kept", format!("{kind}: what was saved is there after a power cut"))
        }
        Durability::Unsafe(why) => {
            ("unsafe", format!("what was said to be saved can be lost in a power cut: {why}"))
        }
        Durability::Unknown(why) => {
            ("unknown", format!("whether what was saved survives a power cut cannot be known: {why}"))
        }
    }
}
