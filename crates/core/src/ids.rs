//! One type per kind of number.

use serde::{Deserialize, Serialize};

macro_rules! id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, Default,
        )]
        #[serde(transparent)]
        pub struct $name(pub i64);

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(f)
            }
        }
    };
}

id!(
    /// An organisation: people, shelves and rules kept apart from every other's.
    OrgId
);
id!(
    /// An account.
    AccountId
);
id!(
    /// A group of accounts.
    GroupId
);
id!(
    /// A grant: who may do what on a node and beneath.
    GrantId
);
id!(
    /// An address that opens something to strangers: a link or an intake.
    OpeningId
);
id!(
    /// One signed-in client with its own revocable token.
    DeviceId
);
id!(
    /// A shelf.
    ShelfId
);
id!(
    /// A file or folder; never changes, whatever its name or place.
    NodeId
);
id!(
    /// The bytes of one state of a file. Two contents may hold equal bytes.
    ContentId
);
id!(
    /// A number on the timeline; every change takes the next one.
    Moment
);

impl Moment {
    /// How a moment looks outside: an opaque token. Only [`Moment::from_token`] reads it.
    pub fn token(self) -> String {
        format!("m{:x}", self.0)
    }

    /// Reads a token made by [`Moment::token`].
    pub fn from_token(token: &str) -> Option<Moment> {
        let digits = token.strip_prefix('m')?;
        if digits.is_empty() || digits.len() > 15 || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
            return None;
        }
        i64::from_str_radix(digits, 16).ok().map(Moment)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_survives_its_token_and_nothing_else_is_read_as_one() {
        for n in [0, 1, 255, i64::from(u32::MAX)] {
            assert_eq!(Moment::from_token(&Moment(n).token()), Some(Moment(n)));
        }
        for bad in ["", "m", "12", "m-1", "m+1", "mzz", "mffffffffffffffff"] {
            assert_eq!(Moment::from_token(bad), None, "{bad}");
        }
    }
}
