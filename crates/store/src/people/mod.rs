//! Accounts, groups, how one signs in, rules, mail, and the record.

pub mod account_lookup;
pub mod accounts;
pub mod grants;
pub mod groups;
pub mod mail_queue;
pub mod quotas;
pub mod record;
pub mod removal;
pub mod rules;
pub mod second_factor;
pub mod sessions;
pub mod sign_ins;

use crate::engine::Engine;
use ref_cast::RefCast;

/// Accounts, groups, rules, mail, and the record.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct People(pub(crate) Engine);

/// How one signs in: passwords, second factors, sessions, devices.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct SignIns(pub(crate) Engine);

/// Rights as they are given, and what follows from them.
#[derive(Clone, RefCast)]
#[repr(transparent)]
pub struct Grants(pub(crate) Engine);

impl Engine {
    /// Who there is.
    pub fn people(&self) -> &People {
        People::ref_cast(self)
    }

    /// How one signs in.
    pub fn sign_ins(&self) -> &SignIns {
        SignIns::ref_cast(self)
    }

    /// Who was given what.
    pub fn grants(&self) -> &Grants {
        Grants::ref_cast(self)
    }
}
