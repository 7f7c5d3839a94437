//! What asks for more than a token: a stolen one alone decides nothing over people, rights, shelves and what goes for
//! good. One table; the service and its tests go by it.

/// What somebody does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Deed {
    /// Makes an account.
    MakeAccount,
    /// Changes an account, disables it, or ends one of its sign-ins.
    ChangeAccount,
    /// Invites somebody to choose a password.
    Invite,
    /// Makes or changes many accounts by a list.
    ImportAccounts,
    /// Carries out a plan of people, groups, shelves and rights.
    CarryOutPlan,
    /// Sends an account on its way out, or takes that back.
    RemoveAccount,
    /// Takes all second factors of an account away.
    EndFactorsOfAnother,
    /// Makes a group.
    MakeGroup,
    /// Changes a group.
    ChangeGroup,
    /// Removes a group.
    RemoveGroup,
    /// Looks as somebody else.
    LookAs,
    /// Invites somebody from outside.
    InviteGuest,
    /// Sets a rule.
    SetRule,
    /// Sets a quota.
    SetQuota,
    /// Makes a shared shelf.
    MakeShelf,
    /// Changes a shared shelf.
    ChangeShelf,
    /// Turns a folder into a shelf.
    RaiseShelf,
    /// Turns a shelf into a folder.
    LowerShelf,
    /// Gives a right.
    GiveRight,
    /// Ends a right.
    EndRight,
    /// Lets rights start afresh.
    SetAfresh,
    /// Makes a link or an intake.
    MakeOpening,
    /// Opens a link or an intake further.
    ChangeOpening,
    /// Changes many of what was given out.
    ChangeGiven,
    /// Lets go of something for good.
    LetGo,
    /// Ends a snapshot: what only it kept goes.
    EndSnapshot,
    /// Changes a snapshot's end.
    ChangeSnapshot,
    /// Says that the clock is right: what waited for it goes.
    BelieveClock,
    /// Settles an alarm: computers that it shut out may come back.
    SettleAlarm,
    /// Lets those go on who are slowed for guessing.
    Release,
    /// Connects a computer that waits under a code.
    ConnectDevice,
    /// Disconnects another computer by a computer's token.
    EndDevice,
    /// Begins to set up a first authenticator or passkey.
    AddFactor,
    /// Takes one of one's own second factors away, or adds to them.
    ChangeFactors,
    /// New recovery codes.
    RenewRecovery,
}

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Needs {
    /// The password, given within ten minutes.
    Password,
    /// A second factor, given within ten minutes.
    Factor,
}

/// One line of the table: what is done, by which operations of the API, and what that asks for.
pub type Line = (Deed, &'static [(&'static str, &'static str)], Needs);

/// All that asks for more than a token.
pub const TABLE: [Line; 35] = [
    (Deed::MakeAccount, &[("POST", "/accounts")], Needs::Password),
    (
        Deed::ChangeAccount,
        &[
            ("PATCH", "/accounts/{sign_in}"),
            ("DELETE", "/accounts/{sign_in}/sessions/{session}"),
            ("DELETE", "/accounts/{sign_in}/devices/{device}"),
            ("DELETE", "/accounts/{sign_in}/invitation"),
        ],
        Needs::Password,
    ),
    (Deed::Invite, &[("POST", "/accounts/{sign_in}/invitation")], Needs::Password),
    (Deed::ImportAccounts, &[("POST", "/accounts/list")], Needs::Password),
    (Deed::CarryOutPlan, &[("POST", "/plan")], Needs::Password),
    (
        Deed::RemoveAccount,
        &[("PUT", "/accounts/{sign_in}/removal"), ("DELETE", "/accounts/{sign_in}/removal")],
        Needs::Password,
    ),
    (Deed::EndFactorsOfAnother, &[("DELETE", "/accounts/{sign_in}/factors")], Needs::Password),
    (Deed::MakeGroup, &[("POST", "/groups")], Needs::Password),
    (Deed::ChangeGroup, &[("PATCH", "/groups/{name}")], Needs::Password),
    (Deed::RemoveGroup, &[("DELETE", "/groups/{name}")], Needs::Password),
    (Deed::LookAs, &[("POST", "/look")], Needs::Password),
    (Deed::InviteGuest, &[("POST", "/guests")], Needs::Password),
    (Deed::SetRule, &[("PUT", "/rules/{name}")], Needs::Password),
    (Deed::SetQuota, &[("PUT", "/quotas")], Needs::Password),
    (Deed::MakeShelf, &[("POST", "/shelves")], Needs::Password),
    (Deed::ChangeShelf, &[("PATCH", "/shelves/{root}")], Needs::Password),
    (Deed::RaiseShelf, &[("POST", "/nodes/{node}/raise")], Needs::Password),
    (Deed::LowerShelf, &[("POST", "/shelves/{root}/lower")], Needs::Password),
    (Deed::GiveRight, &[("POST", "/nodes/{node}/rights")], Needs::Password),
    (Deed::EndRight, &[("DELETE", "/rights/{grant}")], Needs::Password),
    (Deed::SetAfresh, &[("PUT", "/nodes/{node}/afresh")], Needs::Password),
    (Deed::MakeOpening, &[("POST", "/openings")], Needs::Password),
    (Deed::ChangeOpening, &[("PATCH", "/openings/{opening}")], Needs::Password),
    (Deed::ChangeGiven, &[("POST", "/given/change")], Needs::Password),
    (Deed::LetGo, &[("POST", "/past/let-go")], Needs::Password),
    (Deed::EndSnapshot, &[("DELETE", "/snapshots/{id}")], Needs::Password),
    (Deed::ChangeSnapshot, &[("PATCH", "/snapshots/{id}")], Needs::Password),
    (Deed::BelieveClock, &[("POST", "/past/clock")], Needs::Password),
    (Deed::SettleAlarm, &[("POST", "/alarms/{id}/settle")], Needs::Password),
    (Deed::Release, &[("DELETE", "/slowed")], Needs::Password),
    (Deed::ConnectDevice, &[("POST", "/connections/answer")], Needs::Password),
    (Deed::EndDevice, &[("DELETE", "/devices/{device}")], Needs::Password),
    (
        Deed::AddFactor,
        &[
            ("POST", "/me/factors/codes"),
            ("POST", "/me/factors/codes/confirm"),
            ("POST", "/me/factors/passkey"),
            ("POST", "/me/factors/passkey/confirm"),
        ],
        Needs::Password,
    ),
    (Deed::ChangeFactors, &[("DELETE", "/me/factors/{factor}")], Needs::Factor),
    (Deed::RenewRecovery, &[("POST", "/me/recovery")], Needs::Factor),
];

impl Deed {
    /// What it asks for.
    pub fn needs(self) -> Needs {
        TABLE.iter().find(|(deed, ..)| *deed == self).map_or(Needs::Factor, |(.., needs)| *needs)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn each_deed_and_each_operation_stands_in_the_table_once() {
        let deeds: BTreeSet<Deed> = TABLE.iter().map(|(deed, ..)| *deed).collect();
        let operations: Vec<_> = TABLE.iter().flat_map(|(_, operations, _)| operations.iter()).collect();
        assert_eq!(deeds.len(), TABLE.len());
        assert_eq!(operations.iter().collect::<BTreeSet<_>>().len(), operations.len());
    }
}
