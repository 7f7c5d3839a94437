//! What happened in the museum's three months: told day by day through the engine itself, so
//! that the history is a true one.

use crate::{Dice, Failure, Hash, files, people};
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::rules::{Rule, Scope};
use yellow_attic_core::{AccountId, GroupId, Name, NodeId};
use yellow_attic_store::fs::clock::{SetClock, StoryClock};
use yellow_attic_store::people::accounts::{NewPerson, Role};
use yellow_attic_store::{Actor, Engine, NewShelf, Options, ShelfKind};

mod mishaps;
mod rights;
mod strangers;

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;
const DAYS: i64 = 92;

/// A shelf, its owner, and who else may enter.
type Given = (&'static str, &'static str, &'static [(&'static str, Level)]);

/// The museum while its story is told.
struct Museum {
    engine: Engine,
    clock: Arc<StoryClock>,
    now: i64,
    actors: BTreeMap<String, Actor>,
    groups: BTreeMap<String, GroupId>,
    nodes: BTreeMap<String, NodeId>,
    dice: Dice,
}

/// Tells the story.
pub async fn tell(data: &Path, now: i64, hash: &Hash) -> Result<(), Failure> {
    let clock = Arc::new(StoryClock(SetClock::at(now - (DAYS + 1) * DAY)));
    let engine =
        Engine::open(Options { clock: clock.clone(), background: false, ..Options::new(data) }).await?;
    let mut museum = Museum {
        engine,
        clock,
        now,
        actors: BTreeMap::new(),
        groups: BTreeMap::new(),
        nodes: BTreeMap::new(),
        dice: Dice::new("the museum"),
    };
    museum.arrive(hash).await?;
    museum.groups().await?;
    museum.shelves().await?;
    museum.keeping().await?;
    museum.first_days().await?;
    museum.months().await?;
    museum.last_days().await?;
    museum.rights().await?;
    museum.people(hash).await?;
    museum.strangers(hash).await?;
    museum.engine.settle().await?;
    museum.engine.stop().await;
    Ok(())
}

impl Museum {
    /// Sets the clock to some hour of a day that is so many days ago.
    fn at(&mut self, days_ago: i64, hour: i64) {
        let minute = self.dice.below(50) as i64;
        let midnight = self.now - self.now.rem_euclid(DAY);
        let wanted = midnight - days_ago * DAY + hour * HOUR + minute * 60_000;
        self.clock.set(wanted.min(self.now - 60_000));
    }

    /// The end of a day: its snapshots are taken, its figures written.
    async fn evening(&mut self, days_ago: i64) -> Result<(), Failure> {
        self.at(days_ago, 22);
        self.engine.history().run_schedules(&TimeZone::UTC).await?;
        self.engine.space().note_space().await?;
        Ok(())
    }

    fn actor(&self, who: &str) -> Actor {
        self.actors.get(who).cloned().unwrap_or_else(Actor::service)
    }

    async fn arrive(&mut self, hash: &Hash) -> Result<(), Failure> {
        for person in people() {
            let role = if person.role == "administrator" { Role::Administrator } else { Role::Member };
            if person.role == "guest" {
                continue;
            }
            let mail = Some(format!("{}@lamp.example", person.sign_in));
            let named = NewPerson::named(&person.sign_in, person.name, role, &hash(&person.password)?);
            let account =
                self.engine.people().make_person(&Actor::service(), NewPerson { mail, ..named }).await?;
            let actor = Actor {
                account: Some(account.id),
                device: None,
                who: person.sign_in.as_str().into(),
                from: "192.0.2.10".into(),
                through: None,
                scope: None,
                tokens: Default::default(),
            };
            if let Some(home) = self.engine.home_of(account.id) {
                self.nodes.insert(format!("{}:", person.sign_in), home.root);
            }
            self.actors.insert(person.sign_in.clone(), actor);
        }
        for (owner, device) in [("ines", "scanner room"), ("celia", "front desk laptop")] {
            let actor = self.actor(owner);
            let Some(account) = actor.account else { continue };
            let token = *blake3::hash(format!("{device}{}", self.now).as_bytes()).as_bytes();
            self.engine.sign_ins().make_device(&actor, account, device, token, None).await?;
            if let Some(known) =
                self.engine.sign_ins().devices(account).await?.into_iter().find(|d| d.name == device)
            {
                let last = vec![(known.id, self.now - 26 * HOUR, actor.from.to_string())];
                self.engine.sign_ins().note_use(last, Vec::new()).await?;
                let pairs = match device {
                    "scanner room" => {
                        r#"[{"folder":"/srv/scans","place":"Collections:/Logbooks","way":"up","state":"in step"},
                            {"folder":"/home/ines/Attic","place":"home:/","way":"both","state":"waiting","waiting":2,"trouble":1,
                             "says":"\"opening notes.odt\" was changed here and on another computer: both are kept."}]"#
                    }
                    _ => {
                        r#"[{"folder":"/home/desk/Visitors","place":"home:/","way":"both","state":"in step"}]"#
                    }
                };
                self.engine.sign_ins().tell_device(known.id, "yattic 0.1.0", pairs).await?;
                self.actors.insert(device.into(), Actor { device: Some(known.id), ..actor });
            }
        }
        Ok(())
    }

    fn account(&self, who: &str) -> AccountId {
        self.actor(who).account.unwrap_or_default()
    }

    /// `*`, `group:NAME` or a sign-in name.
    fn subject(&self, who: &str) -> Subject {
        match who.strip_prefix("group:") {
            Some(group) => Subject::Group(self.groups.get(group).copied().unwrap_or_default()),
            None if who == "*" => Subject::Everyone,
            None => Subject::Account(self.account(who)),
        }
    }

    async fn shelves(&mut self) -> Result<(), Failure> {
        let given: [Given; 5] = [
            ("Collections", "ines", &[("group:Archive", Level::Edit), ("jonas", Level::View)]),
            (
                "Exhibition 2027",
                "ines",
                &[("oona", Level::Manage), ("group:Exhibition team", Level::Edit), ("felix", Level::Add)],
            ),
            ("Visitor desk", "celia", &[("ines", Level::Manage), ("group:Front desk", Level::Edit)]),
            ("Board", "edda", &[("ines", Level::Edit), ("group:Board", Level::View)]),
            ("Volunteers", "greta", &[("*", Level::Edit)]),
        ];
        for (name, owner, people) in given {
            let grants =
                people.iter().map(|(who, level)| (self.subject(who), Gives::Allow(*level))).collect();
            let owner = self.account(owner);
            let new =
                NewShelf { kind: ShelfKind::Shared, name: Name::new(name)?, owner: Some(owner), grants };
            let shelf = self.engine.space().make_shelf(&self.actor("ines"), new).await?;
            self.nodes.insert(format!("{name}:"), shelf.root);
        }
        Ok(())
    }

    /// What is kept, and for how long.
    async fn keeping(&mut self) -> Result<(), Failure> {
        let ines = self.actor("ines");
        let shelf = |name: &str| {
            let found = self.engine.shelves().into_iter().find(|s| s.name == name);
            found
                .map(|s| (Scope::Shelf(s.id), format!("shelf:{name}")))
                .ok_or_else(|| format!("no shelf {name}"))
        };
        let service = (Scope::Service, "service".to_string());
        for ((scope, word), rule, value) in [
            (
                service.clone(),
                Rule::Versions,
                "everything for 30 days, daily for 90 days, weekly for 104 weeks",
            ),
            (service.clone(), Rule::TrashDays, "120"),
            (service, Rule::MassChange, "close"),
            (shelf("Collections")?, Rule::Snapshots, "weekly on monday at 03:00 kept 26 weeks"),
            (shelf("Board")?, Rule::Snapshots, "monthly on 1 at 03:00 kept 24 months"),
        ] {
            let value = rule.read(value)?;
            self.engine.people().set_rule(&ines, scope, rule, Some(value), &word).await?;
        }
        Ok(())
    }

    /// The folder at a place such as `Collections:Logbooks/1911`, made if it is missing.
    async fn folder(&mut self, who: &str, place: &str) -> Result<NodeId, Failure> {
        let (shelf, path) = place.split_once(':').unwrap_or((place, ""));
        let mut key = format!("{shelf}:");
        let mut node = *self.nodes.get(&key).ok_or_else(|| format!("no shelf {shelf}"))?;
        for name in path.split('/').filter(|p| !p.is_empty()) {
            key = format!("{key}/{name}");
            node = match self.nodes.get(&key) {
                Some(known) => *known,
                None => {
                    let done =
                        self.engine.files().make_folder(&self.actor(who), node, Name::new(name)?).await?;
                    done.row.map(|r| r.node).unwrap_or_default()
                }
            };
            self.nodes.insert(key.clone(), node);
        }
        Ok(node)
    }

    async fn put(&mut self, who: &str, folder: &str, name: &str, bytes: Vec<u8>) -> Result<(), Failure> {
        let parent = self.folder(who, folder).await?;
        let staged = self.engine.stage_small(bytes)?;
        let at = self.engine.now_ms();
        let done = self
            .engine
            .files()
            .put(&self.actor(who), parent, Name::new(name)?, staged, at, Conditions::default())
            .await?;
        let node = done.row.map(|r| r.node).unwrap_or_default();
        self.nodes.insert(file_key(folder, name), node);
        Ok(())
    }

    fn file(&self, folder: &str, name: &str) -> Result<NodeId, Failure> {
        self.nodes
            .get(&file_key(folder, name))
            .copied()
            .ok_or_else(|| format!("no file {folder}/{name}").into())
    }

    async fn remove(&mut self, who: &str, folder: &str, name: &str) -> Result<(), Failure> {
        let node = self.file(folder, name)?;
        self.engine.files().remove(&self.actor(who), node, Conditions::default()).await?;
        Ok(())
    }

    async fn rename(
        &mut self,
        who: &str,
        folder: &str,
        name: &str,
        to_folder: &str,
        to: &str,
    ) -> Result<(), Failure> {
        let node = self.file(folder, name)?;
        let parent = self.folder(who, to_folder).await?;
        self.engine
            .files()
            .move_node(&self.actor(who), node, parent, Name::new(to)?, false, Conditions::default())
            .await?;
        self.nodes.insert(file_key(to_folder, to), node);
        Ok(())
    }

    /// What was copied in when the service was new.
    async fn first_days(&mut self) -> Result<(), Failure> {
        self.at(DAYS, 9);
        for year in [1896, 1911, 1923] {
            for page in 1..=40 {
                let name = format!("logbook-{year}-p{page:03}.png");
                self.put(
                    "scanner room",
                    &format!("Collections:Logbooks/{year}"),
                    &name,
                    files::page_png(&name),
                )
                .await?;
            }
        }
        self.evening(DAYS).await?;
        self.at(DAYS - 1, 10);
        for n in 1..=24 {
            let name = format!("lens-drawing-{n:02}.png");
            self.put("ines", "Collections:Lens drawings", &name, files::page_png(&name)).await?;
        }
        for n in 1..=9 {
            let name = format!("loan-{n:02}.pdf");
            let bytes = files::pdf(&format!("Loan agreement {n}"), &files::lines(&name, 12));
            self.put("tomas", "Collections:Loan agreements", &name, bytes).await?;
        }
        for (name, rows) in
            [("inventory-2024.csv", 340), ("inventory-2025.csv", 420), ("inventory-2026.csv", 460)]
        {
            self.put("tomas", "Collections:", name, files::inventory_csv(name, rows)).await?;
        }
        self.put("ines", "Collections:", "fog-signal-1958.wav", files::signal_wav("1958", 12)).await?;
        self.put("ines", "Collections:Sound", "fog-signal-1931.wav", files::signal_wav("1931", 8)).await?;
        self.put("ines", "Collections:Sound", "keeper-speaks-1962.wav", files::signal_wav("1962", 20))
            .await?;
        let valuation = files::pdf("Insurance valuation", &files::lines("valuation", 24));
        self.put("tomas", "Collections:", "insurance-valuation.pdf", valuation).await?;
        self.evening(DAYS - 1).await?;
        self.at(DAYS - 2, 11);
        for n in 1..=60 {
            let name = format!("view-{n:03}.jpg");
            self.put("celia", "Visitor desk:Photographs/Season", &name, files::view_jpeg(&name)).await?;
        }
        for month in ["June", "July", "August"] {
            let name = format!("tickets-{month}.csv");
            self.put("dario", "Visitor desk:Tickets", &name, files::inventory_csv(&name, 90)).await?;
        }
        for year in 2019..=2026 {
            for n in 1..=6 {
                let name = format!("minutes-{year}-{n:02}.pdf");
                let bytes = files::pdf(&format!("Minutes of meeting {n}, {year}"), &files::lines(&name, 16));
                self.put("edda", &format!("Board:Minutes/{year}"), &name, bytes).await?;
            }
        }
        self.evening(DAYS - 2).await?;
        self.at(DAYS - 3, 14);
        for topic in ["Storm of 1911", "The keeper's day", "Glass and oil", "Signals", "The last keeper"] {
            let name = format!("{}.md", topic.to_lowercase().replace([' ', '\''], "-"));
            self.put("oona", "Exhibition 2027:Texts", &name, files::notes_md(topic, 6)).await?;
        }
        for n in 1..=36 {
            let name = format!("room-{n:02}.jpg");
            self.put("bruno", "Exhibition 2027:Room studies", &name, files::view_jpeg(&name)).await?;
        }
        for n in 1..=40 {
            let name = format!("shift-{n:02}.md");
            self.put("greta", "Volunteers:Shifts", &name, files::notes_md(&format!("Shift {n}"), 2)).await?;
        }
        let homes: [(&str, &str, usize); 6] = [
            ("ines", "Drafts", 14),
            ("tomas", "Letters", 10),
            ("oona", "Ideas", 12),
            ("bruno", "Sketches", 9),
            ("celia", "Rotas", 8),
            ("edda", "Notes", 7),
        ];
        for (who, folder, count) in homes {
            for n in 1..=count {
                let name = format!("{}-{n:02}.md", folder.to_lowercase());
                self.put(
                    who,
                    &format!("{who}:{folder}"),
                    &name,
                    files::notes_md(&format!("{folder} {n}"), 3),
                )
                .await?;
            }
        }
        Ok(())
    }

    /// The everyday, from then to last month.
    async fn months(&mut self) -> Result<(), Failure> {
        self.evening(DAYS - 3).await?;
        for ago in (8..DAYS - 4).rev() {
            self.evening(ago + 1).await?;
            if ago == 20 {
                self.mishap().await?;
            }
            // The museum is closed on two days of seven.
            if ago == 20 || ago % 7 == 0 || (ago % 7 == 1 && self.dice.below(4) > 0) {
                continue;
            }
            let busy = 1 + self.dice.below(4);
            for _ in 0..busy {
                let hour = 8 + self.dice.below(9) as i64;
                self.at(ago, hour);
                self.something(ago).await?;
            }
        }
        Ok(())
    }

    async fn something(&mut self, ago: i64) -> Result<(), Failure> {
        match self.dice.below(9) {
            0 => {
                let year = *self.dice.pick(&[1896, 1911, 1923]);
                let name = format!("logbook-{year}-p{:03}.png", 1 + self.dice.below(40));
                let bytes = files::page_png(&format!("{name} again {ago}"));
                self.put("scanner room", &format!("Collections:Logbooks/{year}"), &name, bytes).await
            }
            1 => {
                let rows = 460 + (DAYS - ago) as usize;
                self.put(
                    "front desk laptop",
                    "Collections:",
                    "inventory-2026.csv",
                    files::inventory_csv("inventory-2026.csv", rows),
                )
                .await
            }
            2 | 3 => {
                let (title, name) = *self.dice.pick(&[
                    ("Storm of 1911", "storm-of-1911.md"),
                    ("The keeper's day", "the-keeper-s-day.md"),
                    ("Glass and oil", "glass-and-oil.md"),
                    ("Signals", "signals.md"),
                ]);
                let bytes = files::notes_md(title, 6 + (DAYS - ago) as usize / 10);
                self.put("oona", "Exhibition 2027:Texts", name, bytes).await
            }
            4 => {
                let name = format!("room-plan-{ago:02}.png");
                self.put("bruno", "Exhibition 2027:Room plans", &name, files::page_png(&name)).await
            }
            5 => {
                let name = format!("view-{:03}.jpg", 100 + ago);
                self.put("celia", "Visitor desk:Photographs/Autumn", &name, files::view_jpeg(&name)).await
            }
            6 => {
                let name = format!("handover-{ago:02}.md");
                self.put(
                    "dario",
                    "Visitor desk:Handovers",
                    &name,
                    files::notes_md(&format!("Handover {ago}"), 2),
                )
                .await
            }
            7 => {
                let name = format!("idea-{ago:02}.md");
                self.put("greta", "Volunteers:Ideas", &name, files::notes_md(&format!("Idea {ago}"), 1)).await
            }
            _ => {
                let name = format!("drafts-{:02}.md", 1 + self.dice.below(14));
                self.put("ines", "ines:Drafts", &name, files::notes_md(&format!("{name} of {ago}"), 4)).await
            }
        }
    }

    /// The week that ends today.
    async fn last_days(&mut self) -> Result<(), Failure> {
        self.evening(8).await?;
        self.evening(7).await?;
        self.at(6, 10);
        let batch: Vec<_> = (1..=12)
            .map(|n| (format!("scan-{n:02}.png"), files::page_png(&format!("batch 7 {n}"))))
            .collect();
        self.put("scanner room", "Collections:", "scans-batch-07.zip", files::batch_zip(&batch)).await?;
        self.evening(6).await?;
        self.at(5, 11);
        for n in [3, 5, 8] {
            self.remove("bruno", "Exhibition 2027:Room studies", &format!("room-{n:02}.jpg")).await?;
        }
        self.rename(
            "oona",
            "Exhibition 2027:Texts",
            "the-last-keeper.md",
            "Exhibition 2027:Texts/Approved",
            "the-last-keeper.md",
        )
        .await?;
        self.evening(5).await?;
        self.at(4, 15);
        let shifts = self.folder("greta", "Volunteers:Shifts").await?;
        let past = self
            .engine
            .history()
            .copy(
                &self.actor("greta"),
                shifts,
                *self.nodes.get("Volunteers:").ok_or("no shelf")?,
                Name::new("Shifts of the season")?,
            )
            .await?;
        debug_assert!(past.created);
        self.evening(4).await?;
        self.at(3, 9);
        self.remove("tomas", "Collections:", "inventory-2024.csv").await?;
        self.sealed().await?;
        self.evening(3).await?;
        self.at(2, 13);
        let minutes = files::pdf("Minutes of meeting 7, 2026", &files::lines("minutes 7", 18));
        self.put("edda", "Board:Minutes/2026", "minutes-2026-07.pdf", minutes).await?;
        self.evening(2).await?;
        self.at(1, 9);
        for page in 41..=46 {
            let name = format!("logbook-1923-p{page:03}.png");
            self.put("scanner room", "Collections:Logbooks/1923", &name, files::page_png(&name)).await?;
        }
        self.at(1, 15);
        let valuation = files::pdf("Insurance valuation", &files::lines("valuation 2", 27));
        self.put("tomas", "Collections:", "insurance-valuation.pdf", valuation).await?;
        self.evening(1).await?;
        // Within the last hours, so that something always changed since yesterday.
        for (minutes_ago, name, paragraphs) in [(190, "signals.md", 14), (130, "glass-and-oil.md", 15)] {
            self.clock.set(self.now - minutes_ago * 60_000);
            self.put("oona", "Exhibition 2027:Texts", name, files::notes_md(name, paragraphs)).await?;
        }
        self.clock.set(self.now - 95 * 60_000);
        self.put("oona", "Collections:", "caption-texts.md", files::notes_md("Caption texts", 9)).await?;
        self.clock.set(self.now - 40 * 60_000);
        self.put(
            "celia",
            "Visitor desk:Handovers",
            "handover-today.md",
            files::notes_md("Handover of today", 3),
        )
        .await?;
        Ok(())
    }
}

fn file_key(folder: &str, name: &str) -> String {
    let folder = folder.trim_end_matches('/');
    match folder.strip_suffix(':') {
        Some(shelf) => format!("{shelf}:/{name}"),
        None => format!("{}/{name}", folder.replacen(':', ":/", 1)),
    }
}
