//! Who there is, in which groups, and who may do what.

use super::{DAY, Museum};
use crate::{Failure, Hash, people};
use jiff::tz::TimeZone;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::rules::{Rule, Scope, Value};
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::accounts::{AccountChange, NewPerson, Role};

impl Museum {
    pub(super) async fn groups(&mut self) -> Result<(), Failure> {
        let ines = self.actor("ines");
        for (name, note, members) in [
            ("Archive", "Logbooks, charts and the inventory", &["tomas", "oona", "celia"][..]),
            ("Exhibition team", "Light on the water, 2027", &["bruno", "tomas"]),
            ("Front desk", "Tickets, tours and the season's photographs", &["dario", "ivy"]),
            ("Board", "The board of the museum", &["tomas", "hugo"]),
            ("Volunteers", "Everybody who lends a hand", &["greta", "jonas", "felix", "ivy"]),
        ] {
            let group = self.engine.people().make_group(&ines, name, note).await?;
            let members = members.iter().map(|who| self.account(who)).collect();
            self.engine.people().change_members(&ines, &group, members, Vec::new()).await?;
            self.groups.insert(name.into(), group.id);
        }
        Ok(())
    }

    /// What is given below the tops of shelves, and what starts afresh.
    pub(super) async fn rights(&mut self) -> Result<(), Failure> {
        let give = |subject, gives, until, message: &str, node| NewGrant {
            node,
            subject,
            gives,
            until,
            message: message.into(),
        };
        let at = |museum: &Museum, place: &str| museum.nodes.get(place).copied();
        if let Some(texts) = at(self, "Exhibition 2027:/Texts") {
            let until = Some(self.now + 40 * DAY);
            let hugo = Subject::Account(self.account("hugo"));
            let word = "The panel texts, for the board's comments";
            self.engine
                .grants()
                .give(&self.actor("oona"), give(hugo, Gives::Allow(Level::View), until, word, texts))
                .await?;
        }
        if let Some(drafts) = at(self, "ines:/Drafts") {
            let tomas = Subject::Account(self.account("tomas"));
            let word = "Please look over these before they go out";
            self.engine
                .grants()
                .give(&self.actor("ines"), give(tomas, Gives::Allow(Level::Edit), None, word, drafts))
                .await?;
        }
        Ok(())
    }

    /// A guest, somebody who has not come yet, somebody who leaves; quotas, one of them nearly full;
    /// what shelves are for; a rule for the board.
    pub(super) async fn people(&mut self, hash: &Hash) -> Result<(), Failure> {
        let ines = self.actor("ines");
        for person in people().iter().filter(|p| p.role == "guest") {
            let named = NewPerson::named(&person.sign_in, person.name, Role::Guest, &hash(&person.password)?);
            let mail = Some(format!("{}@drawings.example", person.sign_in));
            let by = self.actor("oona");
            let new = NewPerson { mail, invited_by: by.account, ..named };
            let guest = self.engine.people().make_person(&by, new).await?;
            if let Some(texts) = self.nodes.get("Exhibition 2027:/Texts").copied() {
                let new = NewGrant {
                    node: texts,
                    subject: Subject::Account(guest.id),
                    gives: Gives::Allow(Level::Add),
                    until: Some(self.now + 60 * DAY),
                    message: "For the drawings beside the panel texts".into(),
                };
                self.engine.grants().give(&by, new).await?;
            }
        }
        for (sign_in, name) in [("mattis", "Mattis Rowe"), ("berta", "Berta Sand")] {
            let mail = Some(format!("{sign_in}@lamp.example"));
            let named = NewPerson::named(sign_in, name, Role::Member, "");
            self.engine.people().make_person(&ines, NewPerson { mail, ..named }).await?;
        }
        let disable = AccountChange { disabled: Some(true), ..AccountChange::default() };
        let berta = self.engine.people().change_account(&ines, "berta", disable).await?;
        let heir = self.engine.people().account_named("greta").await?;
        self.engine.people().mark_leaving(&ines, &berta, self.now + 24 * DAY, heir.as_ref()).await?;
        for (group, quota) in [("Volunteers", 1 << 30), ("Front desk", 5 << 30)] {
            if let Some(id) = self.groups.get(group) {
                self.engine.people().change_group(&ines, *id, None, None, Some(Some(quota))).await?;
            }
        }
        for (shelf, note) in [
            ("Collections", "What the museum keeps: logbooks, charts, the inventory"),
            ("Exhibition 2027", "Light on the water, in the making"),
            ("Visitor desk", "Opening hours, tours, tickets, the season's photographs"),
            ("Board", "Minutes and budgets"),
            ("Volunteers", "Rotas and notes of everybody who lends a hand"),
        ] {
            let found = self.engine.shelves().into_iter().find(|s| s.name == shelf);
            let Some(found) = found else { continue };
            // The visitor desk's shelf is nearly full.
            let used = self.engine.space().fullness(&found).await?.used;
            let quota = (shelf == "Visitor desk").then_some(Some(used + used / 18));
            self.engine.space().change_shelf(&ines, &found, Some(note.into()), quota, None).await?;
        }
        if let Some(board) = self.groups.get("Board") {
            let day = jiff::Timestamp::from_millisecond(self.now + 45 * DAY)?;
            let day = day.to_zoned(TimeZone::UTC).date();
            let scope = Scope::Group(*board);
            let value = Some(Value::Day(Some(day)));
            self.engine.people().set_rule(&ines, scope, Rule::SecondFactor, value, "group:Board").await?;
        }
        Ok(())
    }
}
