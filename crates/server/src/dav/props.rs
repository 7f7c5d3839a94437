//! Properties: what each is worth for a file, a folder, a past state or a list that the service makes.

use super::spot::href_of;
use crate::dto::shelf::PERSON;
use crate::http::problem::Refusal;
use crate::http::times::{http_date, show};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::web;
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::dav::bodies::Wanted;
use yellow_attic_core::dav::xml::escape;
use yellow_attic_core::dav::{DAV, PropName, TIMES, answer};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{NodeId, ShelfId};
use yellow_attic_store::ops::properties::Properties;
use yellow_attic_store::people::accounts::Role;
use yellow_attic_store::rights::locks::Held;
use yellow_attic_store::{ChangeKind, Folder, Row};

/// Properties that the service knows by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Live {
    Created,
    Name,
    Length,
    Kind,
    Tag,
    Modified,
    Resource,
    LocksThere,
    LocksHeld,
    RoomLeft,
    RoomUsed,
    Person,
    Privileges,
    PersonAddress,
    SyncToken,
    Reports,
    VersionName,
    Author,
    Comment,
}

/// All of them by name. The first eight are what a file manager asks for, and what comes when all is asked for.
const LIVE: [(&str, Live); 18] = [
    ("creationdate", Live::Created),
    ("displayname", Live::Name),
    ("getcontentlength", Live::Length),
    ("getcontenttype", Live::Kind),
    ("getetag", Live::Tag),
    ("getlastmodified", Live::Modified),
    ("resourcetype", Live::Resource),
    ("lockdiscovery", Live::LocksHeld),
    ("supportedlock", Live::LocksThere),
    ("quota-available-bytes", Live::RoomLeft),
    ("quota-used-bytes", Live::RoomUsed),
    ("current-user-principal", Live::Person),
    ("current-user-privilege-set", Live::Privileges),
    ("principal-URL", Live::PersonAddress),
    ("sync-token", Live::SyncToken),
    ("supported-report-set", Live::Reports),
    ("version-name", Live::VersionName),
    ("creator-displayname", Live::Author),
];
/// The list of shelves.
const TOP: &str = "/dav/";
/// How many come when all is asked for (RFC 4918 has these; the others are asked for by name).
const IN_ALL: usize = 9;

/// The property of some clients that holds a file's time.
pub fn is_modified(name: &PropName) -> bool {
    name.is_dav("getlastmodified") || (name.ns == TIMES && name.name == "Win32LastModifiedTime")
}

/// What a name stands for; none for what programs keep.
pub fn live(name: &PropName) -> Option<Live> {
    if is_modified(name) {
        return Some(Live::Modified);
    }
    if name.ns != DAV {
        return None;
    }
    if name.name == "comment" {
        return Some(Live::Comment);
    }
    LIVE.iter().find(|(known, _)| *known == name.name).map(|(_, live)| *live)
}

/// What is asked for, worked out once for a whole answer.
pub struct Plan {
    list: Vec<(PropName, Option<Live>)>,
    /// What programs keep: all of it, whatever its name.
    all_kept: bool,
    names_only: bool,
    /// Whether what is not there is said.
    exact: bool,
}

impl Plan {
    /// A plan for what is wanted.
    pub fn new(wanted: Wanted) -> Plan {
        let all = || LIVE[..IN_ALL].iter().map(|(name, live)| (PropName::dav(name), Some(*live)));
        let with_live = |name: PropName| {
            let live = live(&name);
            (name, live)
        };
        match wanted {
            Wanted::All(more) => {
                let mut list: Vec<_> = all().collect();
                for name in more {
                    if !list.iter().any(|(known, _)| *known == name) {
                        list.push(with_live(name));
                    }
                }
                Plan { list, all_kept: true, names_only: false, exact: false }
            }
            Wanted::Names => {
                let list = LIVE.iter().map(|(name, live)| (PropName::dav(name), Some(*live))).collect();
                Plan { list, all_kept: true, names_only: true, exact: false }
            }
            Wanted::These(names) => {
                let list = names.into_iter().map(with_live).collect();
                Plan { list, all_kept: false, names_only: false, exact: true }
            }
        }
    }

    fn asks(&self, live: Live) -> bool {
        self.list.iter().any(|(_, l)| *l == Some(live))
    }

    fn asks_kept(&self) -> bool {
        self.all_kept || self.list.iter().any(|(_, live)| live.is_none())
    }
}

/// Something of which properties are told.
pub struct Thing<'t> {
    /// Its address.
    pub href: &'t str,
    /// Its name.
    pub name: &'t str,
    /// Its row, if it has one.
    pub row: Option<&'t Row>,
    /// Its sums, if it is a folder.
    pub folder: Option<&'t Folder>,
    /// What it is.
    pub is: Is,
    /// What may be done with it.
    pub level: Option<Level>,
    /// Locks that lie over it from above.
    pub above: &'t [Held],
}

/// What a thing is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Is {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A past state of a file.
    State,
    /// A list that the service makes.
    List,
    /// Oneself.
    Person,
}

/// What a page of things has in common, read at once.
#[derive(Default)]
pub struct Known {
    kept: Properties,
    first: HashMap<NodeId, i64>,
}

/// Tells properties of things, for one answer.
pub struct Teller {
    /// The service.
    pub state: web::Data<State>,
    /// Who asks.
    pub who: Who,
    /// What they ask for.
    pub plan: Plan,
    locks: HashMap<NodeId, Vec<Held>>,
    /// Where the locks lie, worked out when first needed.
    roots: HashMap<NodeId, String>,
    room: HashMap<ShelfId, (u64, Option<u64>)>,
    /// The caller's own shelf, once its room was looked at.
    own: Option<ShelfId>,
    names: Option<Arc<crate::state::names::NameMap>>,
    token: Option<String>,
    found: String,
    missing: String,
}

impl Teller {
    /// Begins an answer.
    pub async fn new(state: web::Data<State>, who: Who, plan: Plan) -> Teller {
        let locks = match plan.asks(Live::LocksHeld) {
            true => state.engine.files().locks_by_node(),
            false => HashMap::new(),
        };
        let names = match plan.asks(Live::Author) {
            true => Some(state.names_for(&who).await),
            false => None,
        };
        let mut teller = Teller {
            state,
            who,
            plan,
            locks,
            roots: HashMap::new(),
            room: HashMap::new(),
            own: None,
            names,
            token: None,
            found: String::new(),
            missing: String::new(),
        };
        teller.find_roots().await;
        teller
    }

    /// The token that stands for the present of a shelf.
    pub fn set_token(&mut self, token: String) {
        self.token = Some(token);
    }

    async fn find_roots(&mut self) {
        for node in self.locks.keys().copied().collect::<Vec<_>>() {
            if let Ok(chain) = self.state.engine.files().chain(&self.who.actor, node, Level::View).await {
                let rows: Vec<&Row> = chain.iter().map(|r| &**r).collect();
                if let Ok(way) = self.state.engine.files().way_of(&self.who.actor, &rows).await {
                    self.roots.insert(node, href_of(&way.path, chain[0].is_folder()));
                }
            }
        }
    }

    /// How full a shelf is: read once for an answer.
    pub async fn look_at_room(&mut self, shelf: ShelfId) -> Result<(), Refusal> {
        if (!self.plan.asks(Live::RoomLeft) && !self.plan.asks(Live::RoomUsed))
            || self.room.contains_key(&shelf)
        {
            return Ok(());
        }
        let Some(its) = self.state.engine.shelves().into_iter().find(|s| s.id == shelf) else {
            return Ok(());
        };
        // How much lies on a shelf, and how much room the machine has, is for whoever sees all of the shelf, and for
        // nobody from outside.
        if self.who.account.role == Role::Guest
            || self.state.engine.files().chain(&self.who.actor, its.root, Level::View).await.is_err()
            || self.state.engine.files().sums(&self.who.actor, its.root).await?.is_none()
        {
            return Ok(());
        }
        let full = self.state.engine.space().fullness(&its).await?;
        let free = self.state.engine.disk_space()?.0;
        let left = full.line.map_or(free, |line| line.saturating_sub(full.used + full.claimed).min(free));
        self.room.insert(shelf, (full.used, Some(left)));
        Ok(())
    }

    /// How full it is: of the list of shelves, the caller's own.
    fn room_of(&self, thing: &Thing<'_>) -> Option<(u64, Option<u64>)> {
        let shelf = match thing.is {
            Is::Folder => thing.row.map(|row| row.shelf),
            Is::List if thing.href == TOP => self.own,
            _ => None,
        };
        shelf.and_then(|shelf| self.room.get(&shelf)).copied()
    }

    /// Reads how full the caller's own shelf is.
    pub async fn look_at_own_room(&mut self) -> Result<(), Refusal> {
        let own = self.state.engine.home_of(self.who.account.id).map(|shelf| shelf.id);
        if let Some(own) = own {
            self.look_at_room(own).await?;
        }
        self.own = own;
        Ok(())
    }

    /// Reads what some nodes have in common.
    pub async fn know(&self, rows: &[&Row]) -> Result<Known, Refusal> {
        let mut known = Known::default();
        if self.plan.asks_kept() {
            let nodes: Vec<NodeId> = rows.iter().map(|r| r.node).collect();
            known.kept = self.state.engine.files().properties(&nodes).await?;
        }
        if self.plan.asks(Live::Created) {
            let old: Vec<NodeId> =
                rows.iter().filter(|r| r.how != ChangeKind::Made).map(|r| r.node).collect();
            if !old.is_empty() {
                known.first = self.state.engine.files().first_times(&old).await?;
            }
        }
        Ok(known)
    }

    /// Tells of one thing.
    pub fn tell(&mut self, out: &mut String, thing: &Thing<'_>, known: &Known) {
        let (mut found, mut missing) = (std::mem::take(&mut self.found), std::mem::take(&mut self.missing));
        found.clear();
        missing.clear();
        let kept = thing.row.filter(|_| thing.is != Is::State).and_then(|r| known.kept.get(&r.node));
        for (name, live) in &self.plan.list {
            let own = match live {
                Some(live) => self.value(name, *live, thing, known, &mut found),
                None => false,
            };
            if own {
                continue;
            }
            match kept.and_then(|k| k.iter().find(|(n, _)| n == name)) {
                Some((_, value)) if !self.plan.names_only => found.push_str(value),
                Some(_) => answer::prop(&mut found, name, |_| {}),
                None if self.plan.exact => answer::prop(&mut missing, name, |_| {}),
                None => {}
            }
        }
        if self.plan.all_kept {
            for (name, value) in kept.into_iter().flatten() {
                if self.plan.list.iter().any(|(known, _)| known == name) {
                    continue;
                }
                match self.plan.names_only {
                    true => answer::prop(&mut found, name, |_| {}),
                    false => found.push_str(value),
                }
            }
        }
        let both = [(200, found.as_str()), (404, missing.as_str())];
        // Asked for nothing but what is not there: no empty group of what is.
        let groups = if found.is_empty() && !missing.is_empty() { &both[1..] } else { &both[..] };
        answer::response(out, thing.href, groups);
        (self.found, self.missing) = (found, missing);
    }

    /// Writes the value of a property of ours; false if the thing does not have it.
    fn value(&self, name: &PropName, live: Live, thing: &Thing<'_>, known: &Known, out: &mut String) -> bool {
        let (row, is) = (thing.row, thing.is);
        let collection = matches!(is, Is::Folder | Is::List);
        let has = match live {
            Live::Name | Live::Resource | Live::Person => true,
            Live::Length | Live::Tag | Live::Kind => matches!(is, Is::File | Is::State),
            Live::Created | Live::Modified => row.is_some(),
            Live::LocksThere | Live::LocksHeld => matches!(is, Is::File | Is::Folder),
            Live::RoomLeft | Live::RoomUsed => {
                self.room_of(thing).is_some()
                    || self.plan.names_only && (is == Is::Folder || thing.href == TOP)
            }
            Live::Privileges => is != Is::Person,
            Live::PersonAddress => is == Is::Person,
            Live::SyncToken => is == Is::Folder && (self.token.is_some() || self.plan.names_only),
            Live::Reports => matches!(is, Is::File | Is::Folder),
            Live::VersionName => is == Is::State,
            Live::Author => row.is_some(),
            Live::Comment => false,
        };
        if !has {
            return false;
        }
        if self.plan.names_only {
            answer::prop(out, name, |_| {});
            return true;
        }
        answer::prop(out, name, |out| match live {
            Live::Name => escape(out, thing.name),
            Live::Length => out.push_str(&row.map_or(0, Row::size).to_string()),
            Live::Kind => out
                .push_str(crate::transfer::send::safe_type(thing.name).unwrap_or("application/octet-stream")),
            Live::Tag => out.push_str(&row.and_then(Row::etag).unwrap_or_default()),
            Live::Created => {
                let at = row.map_or(0, |r| known.first.get(&r.node).copied().unwrap_or(r.at).min(r.at));
                let at = if is == Is::State { row.map_or(0, |r| r.at) } else { at };
                out.push_str(&show(at));
            }
            Live::Modified => {
                let at = row.map_or(0, |r| match thing.folder {
                    Some(folder) => folder.changed_at.max(r.at),
                    None if r.is_folder() => r.at,
                    None => r.mtime,
                });
                out.push_str(&http_date(at));
            }
            Live::Resource => match is {
                Is::Person => out.push_str("<D:principal/>"),
                _ if collection => out.push_str("<D:collection/>"),
                _ => {}
            },
            Live::LocksThere => {
                for scope in ["exclusive", "shared"] {
                    out.push_str("<D:lockentry><D:lockscope><D:");
                    out.push_str(scope);
                    out.push_str("/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>");
                }
            }
            Live::LocksHeld => {
                let own = row.and_then(|r| self.locks.get(&r.node)).map_or(&[][..], Vec::as_slice);
                let now = self.state.engine.now_ms();
                for held in thing.above.iter().chain(own) {
                    let root = self.roots.get(&held.lock.node).map_or(thing.href, String::as_str);
                    push_lock(out, held, root, now);
                }
            }
            Live::RoomLeft | Live::RoomUsed => {
                if let Some((used, left)) = self.room_of(thing) {
                    let value = if live == Live::RoomUsed { Some(used) } else { left };
                    out.push_str(&value.unwrap_or(0).to_string());
                }
            }
            Live::Person | Live::PersonAddress => {
                out.push_str(&format!("<D:href>/dav/{PERSON}/</D:href>"));
            }
            Live::Privileges => push_privileges(out, is, thing.level),
            Live::SyncToken => escape(out, self.token.as_deref().unwrap_or_default()),
            Live::Reports => {
                let reports: &[&str] = match is {
                    Is::File => &["version-tree", "expand-property"],
                    _ => &["sync-collection", "expand-property"],
                };
                for report in reports {
                    out.push_str(&format!(
                        "<D:supported-report><D:report><D:{report}/></D:report></D:supported-report>"
                    ));
                }
            }
            Live::VersionName => out.push_str(&row.map_or_else(String::new, |r| r.since.token())),
            Live::Author => {
                let by = row.and_then(|r| self.names.as_ref()?.author(r.account, r.device));
                escape(out, &by.unwrap_or_default());
            }
            Live::Comment => {}
        });
        true
    }

    /// Whether what may be done is asked for.
    pub fn asks_level(&self) -> bool {
        self.plan.asks(Live::Privileges)
    }

    /// Whether the token of the present is asked for.
    pub fn asks_token(&self) -> bool {
        self.plan.asks(Live::SyncToken) && !self.plan.names_only
    }

    /// The deep locks on the way to a folder, itself among them: they lie over what is in it.
    pub fn locks_into(&self, way: &[NodeId]) -> Vec<Held> {
        way.iter().filter_map(|n| self.locks.get(n)).flatten().filter(|h| h.lock.deep).cloned().collect()
    }
}

/// Writes an active lock.
pub fn push_lock(out: &mut String, held: &Held, root: &str, now: i64) {
    let lock = &held.lock;
    out.push_str("<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:");
    out.push_str(if lock.exclusive { "exclusive" } else { "shared" });
    out.push_str("/></D:lockscope><D:depth>");
    out.push_str(if lock.deep { "infinity" } else { "0" });
    out.push_str("</D:depth>");
    match &lock.owner {
        Some(owner) => out.push_str(owner),
        None => {
            out.push_str("<D:owner>");
            escape(out, &held.who);
            out.push_str("</D:owner>");
        }
    }
    out.push_str(&format!("<D:timeout>Second-{}</D:timeout>", ((lock.until - now) / 1000).max(0)));
    // A lock by hand has no token that anybody could name.
    if lock.by_token {
        out.push_str("<D:locktoken><D:href>");
        escape(out, &lock.token);
        out.push_str("</D:href></D:locktoken>");
    }
    out.push_str("<D:lockroot><D:href>");
    escape(out, root);
    out.push_str("</D:href></D:lockroot></D:activelock>");
}

fn push_privileges(out: &mut String, is: Is, level: Option<Level>) {
    let mut list = vec!["read", "read-current-user-privilege-set"];
    if matches!(is, Is::File | Is::Folder) {
        if level >= Some(Level::Add) && is == Is::Folder {
            list.push("bind");
        }
        if level >= Some(Level::Edit) {
            list.extend(["write", "write-content", "write-properties", "unlock"]);
            if is == Is::Folder {
                list.push("unbind");
            }
        }
    }
    for privilege in list {
        out.push_str(&format!("<D:privilege><D:{privilege}/></D:privilege>"));
    }
}
