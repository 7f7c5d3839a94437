//! What people outside see: links in every state, intakes, and what was handed in.

use super::{DAY, Museum};
use crate::{Failure, Hash, files};
use yellow_attic_core::NodeId;
use yellow_attic_core::intake::Kinds;
use yellow_attic_core::openings::{Can, Kind};
use yellow_attic_core::rules::{Rule, Scope, Value};
use yellow_attic_store::Place;
use yellow_attic_store::sharing::openings::{NewOpening, Opening, Set};
use yellow_attic_store::timeline::uploads::NewUpload;

impl Museum {
    /// Links in every state, intakes, and deliveries: one done, one under way.
    pub(super) async fn strangers(&mut self, hash: &Hash) -> Result<(), Failure> {
        let (day, none) = (DAY, Set::default);
        let at = |museum: &Museum, place: &str| {
            museum.nodes.get(place).copied().ok_or_else(|| format!("no {place}"))
        };
        let text = |text: &str| Some(text.to_string());

        self.clock.set(self.now - 20 * day);
        let page = self.file("Collections:Logbooks/1911", "logbook-1911-p014.png")?;
        let set = Set {
            title: text("Logbook, page 14"),
            message: text(
                "The page you asked about. The keeper's note on the fog signal is at the bottom left.",
            ),
            most: Some(Some(5)),
            ends_at: Some(Some(self.now + 9 * day)),
            ..none()
        };
        let asked = self.link("ines", page, None, set).await?;
        let chart = self.file("Collections:Logbooks/1911", "logbook-1911-p012.png")?;
        let once = self.link("ines", chart, None, Set { most: Some(Some(1)), ..none() }).await?;
        let over = Set { ends_at: Some(Some(self.now - 2 * day)), ..none() };
        self.link("ines", self.file("Collections:Logbooks/1911", "logbook-1911-p009.png")?, None, over)
            .await?;
        let studies = at(self, "Exhibition 2027:/Room studies")?;
        let set = Set { can: Some(Can::View), title: text("Room studies, first round"), ..none() };
        self.link("oona", studies, None, set).await?;

        self.clock.set(self.now - 9 * day);
        for (opening, node, who) in [(&asked, page, "198.51.100.23"), (&once, chart, "203.0.113.80")] {
            let secret = *blake3::hash(format!("slip {}", opening.id).as_bytes()).as_bytes();
            self.engine.sharing().take_slip(&opening.actor(who), opening, secret, node, None).await?;
            self.engine.sharing().begin_slip(secret).await?;
        }
        let texts = at(self, "Exhibition 2027:/Texts")?;
        let set = Set {
            can: Some(Can::Edit),
            password: Some(hash("kelp-ladder-seven")?),
            title: text("Panel texts for the translator"),
            message: text("Please work on the files themselves; every earlier state is kept."),
            ends_at: Some(Some(self.now + 60 * day)),
            ..none()
        };
        self.link("oona", texts, None, set).await?;
        let shifts = at(self, "Volunteers:/Shifts")?;
        let set = Set { can: Some(Can::Add), title: text("Photographs of the open day"), ..none() };
        self.link("greta", shifts, None, set).await?;
        let minutes = at(self, "Board:/Minutes/2026")?;
        let open_minutes = self
            .link("edda", minutes, None, Set { title: text("Minutes for the auditor"), ..none() })
            .await?;
        let handovers = at(self, "Visitor desk:/Handovers")?;
        let set = Set {
            begins_at: Some(Some(self.now + 5 * day)),
            title: text("Handovers of the season"),
            ..none()
        };
        self.link("celia", handovers, Some("season-handovers"), set).await?;
        let paused = self.link("celia", handovers, None, none()).await?;
        let set = Set { paused: Some(true), ..none() };
        self.engine.sharing().change_opening(&self.actor("celia"), paused.id, set, false).await?;
        let ended = self.link("ines", page, None, none()).await?;
        let set = Set { ended: Some(true), ..none() };
        self.engine.sharing().change_opening(&self.actor("ines"), ended.id, set, false).await?;
        let captions = self.file("Collections:", "caption-texts.md")?;
        self.link("ines", captions, None, none()).await?;
        self.clock.set(self.now - 30 * 60_000);
        self.remove("ines", "Collections:", "caption-texts.md").await?;
        self.engine.history().restore(&self.actor("ines"), captions, None, Place::Last).await?;
        // A rule for one shelf that came later: the link for the auditor does not open any more.
        if let Some(board) = self.engine.shelves().into_iter().find(|s| s.name == "Board") {
            let (scope, on) = (Scope::Shelf(board.id), Some(Value::Switch(true)));
            self.engine
                .people()
                .set_rule(&self.actor("ines"), scope, Rule::LinksPassword, on, "shelf:Board")
                .await?;
            debug_assert!(open_minutes.password.is_empty());
        }

        self.clock.set(self.now - 12 * day);
        let drawings = self.folder("oona", "Exhibition 2027:School drawings").await?;
        let set = Set {
            title: text("Draw the lighthouse as you see it"),
            message: text(
                "Schools on the coast are invited to send drawings for the last room.\n\nPlease write the pupil's age into the \
                 name of the file, and no surnames.",
            ),
            kinds: Some(Kinds::read("pictures, .pdf")?),
            largest_file: Some(Some(20 << 20)),
            largest_all: Some(Some(500 << 20)),
            ends_at: Some(Some(self.now + 30 * day)),
            asks_mail: Some(true),
            ..none()
        };
        let intake = self.opening("oona", Kind::Intake, drawings, Some("school-drawings"), set).await?;
        let reports = self.folder("ines", "Collections:Condition reports").await?;
        let set = Set {
            title: text("Condition reports"),
            password: Some(hash("plinth-salt-hinge")?),
            most: Some(Some(20)),
            kinds: Some(Kinds::read("documents")?),
            ..none()
        };
        self.opening("ines", Kind::Intake, reports, None, set).await?;
        for (days, sender, from, files, done) in [
            (4, "Gull Bay School", "198.51.100.40", 9, true),
            (0, "Elm Street School", "203.0.113.17", 7, true),
            (0, "Reed Point School", "203.0.113.61", 3, false),
        ] {
            self.clock.set(self.now - days * day - 50 * 60_000);
            self.deliver(&intake, sender, from, files, done).await?;
        }
        Ok(())
    }

    async fn link(
        &mut self,
        who: &str,
        node: NodeId,
        ending: Option<&str>,
        set: Set,
    ) -> Result<Opening, Failure> {
        self.opening(who, Kind::Link, node, ending, set).await
    }

    async fn opening(
        &mut self,
        who: &str,
        kind: Kind,
        node: NodeId,
        ending: Option<&str>,
        set: Set,
    ) -> Result<Opening, Failure> {
        let new = NewOpening { kind, node, ending: ending.map(str::to_string), set };
        Ok(self.engine.sharing().make_opening(&self.actor(who), new).await?)
    }

    async fn deliver(
        &mut self,
        intake: &Opening,
        sender: &str,
        from: &str,
        files: usize,
        done: bool,
    ) -> Result<(), Failure> {
        let actor = intake.actor(from);
        let secret = *blake3::hash(sender.as_bytes()).as_bytes();
        let mail = format!("office@{}.example", sender.to_lowercase().replace(' ', "-"));
        let delivery =
            self.engine.sharing().begin_delivery(&actor, intake, secret, sender, Some(mail)).await?;
        for n in 1..=files {
            let name = format!("age {} drawing {n}.jpg", 6 + n % 5);
            let bytes = files::view_jpeg(&format!("{sender} {n}"));
            let size = bytes.len() as u64;
            let new = |parent, name| NewUpload {
                open_length: false,
                parent,
                name,
                size,
                mtime: None,
                if_match: None,
                if_none_match: None,
                hash: None,
                joining: Default::default(),
            };
            let upload =
                self.engine.sharing().begin_delivery_upload(&actor, intake, &delivery, &name, new).await?;
            let mut part = self.engine.files().append(&actor, &upload.id, 0).await?;
            part.write(&bytes)?;
            part.pause().await?;
            self.engine.sharing().finish_delivery_upload(&actor, intake, &delivery, &upload.id).await?;
        }
        if done && let Some(delivery) = self.engine.sharing().delivery(secret).await? {
            self.engine.sharing().finish_delivery(&actor, &delivery).await?;
        }
        Ok(())
    }
}
