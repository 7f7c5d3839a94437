//! Who may do what, in memory: all grants, memberships, rules, owners and quotas of the store, so
//! that a check reads nothing. Replaced as a whole by the commit that changes any of them.

use crate::catalogue::rows::parse;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, Row, Shelf, ShelfKind, Through, TokenScope};
use crate::rights::quota::Lines;
use sqlx::SqliteConnection;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use yellow_attic_core::rights::{Explained, Gives, Grant, Here, Level, Person, Standing, Subject, explain};
use yellow_attic_core::rules::{Door, EVERYONE, Rule, Rules, Scope, Value};
use yellow_attic_core::{AccountId, GrantId, GroupId, NodeId, ShelfId};

/// All grants, memberships, rules, owners and quotas.
#[derive(Clone, Debug, Default)]
pub(crate) struct Access {
    here: HashMap<NodeId, Here>,
    groups_of: HashMap<AccountId, Arc<[GroupId]>>,
    /// Nodes at which somebody may do less than above.
    bars: Vec<NodeId>,
    /// Who owns which shelf.
    owners: HashMap<ShelfId, Vec<AccountId>>,
    /// How many bytes a shared shelf may hold, where there is a line.
    lines: HashMap<ShelfId, u64>,
    /// The same for the home of an account.
    home_lines: HashMap<AccountId, u64>,
    rules: Rules,
    /// People from outside.
    guests: HashSet<AccountId>,
    /// Accounts that can do nothing now.
    disabled: HashSet<AccountId>,
    /// Doors closed to an account alone.
    closed: HashMap<AccountId, BTreeSet<Door>>,
    /// The names of groups, as rules have them.
    group_names: HashMap<GroupId, String>,
    /// Soft lines, by kind and id.
    pub(crate) soft: HashMap<(&'static str, i64), u64>,
    folder_lines: HashMap<NodeId, Lines>,
    whole_lines: Lines,
    /// Past bytes that only snapshots keep.
    only_snapshots: HashMap<ShelfId, i64>,
    /// Accounts with a line of their own.
    own_lines: HashSet<AccountId>,
}

type Sets =
    (String, String, String, String, String, String, String, String, String, String, String, String, String);
type LineJson = (String, i64, Option<i64>, Option<i64>);

/// A value that no longer can be read counts as not set.
pub(crate) fn read_rule((kind, of, rule, value): (i64, i64, String, String)) -> Option<(Scope, Rule, Value)> {
    let rule = Rule::from_word(&rule)?;
    let scope = match kind {
        0 => Scope::Service,
        1 => Scope::Organisation,
        2 => Scope::Group(GroupId(of)),
        _ => Scope::Shelf(ShelfId(of)),
    };
    Some((scope, rule, rule.read(&value).ok()?))
}

type GrantJson = (i64, i64, Option<i64>, Option<i64>, String, Option<i64>);

impl Access {
    pub async fn load(conn: &mut SqliteConnection) -> Result<Access> {
        let (grants, afresh, members, owners, lines, homes, rules, guests, shut, names, quotas, only, own): Sets = sqlx::query_as(
            "SELECT (SELECT json_group_array(json_array(id, node, account, grp, level, until)) FROM grants),
                    (SELECT json_group_array(node) FROM afresh),
                    (SELECT json_group_array(json_array(account, grp)) FROM (SELECT account, grp FROM members ORDER BY account, grp)),
                    (SELECT json_group_array(json_array(shelf, account)) FROM (
                       SELECT id AS shelf, owner AS account FROM shelves WHERE kind = 'home' AND owner IS NOT NULL
                       UNION ALL SELECT shelf, account FROM shelf_owners)),
                    (SELECT json_group_array(json_array(id, quota)) FROM shelves WHERE quota IS NOT NULL),
                    (SELECT json_group_array(json_array(id, line)) FROM (
                       SELECT a.id, coalesce(a.quota, (SELECT max(g.quota) FROM members m JOIN groups g ON g.id = m.grp
                                                       WHERE m.account = a.id)) AS line
                       FROM accounts a) WHERE line IS NOT NULL),
                    (SELECT json_group_array(json_array(kind, of, rule, value)) FROM rules),
                    (SELECT json_group_array(id) FROM accounts WHERE role = 'guest'),
                    (SELECT json_group_array(json_array(id, disabled_at IS NOT NULL, closed)) FROM accounts
                     WHERE disabled_at IS NOT NULL OR closed <> ''),
                    (SELECT json_group_array(json_array(id, name)) FROM groups),
                    (SELECT json_group_array(json_array(kind, of, soft, hard)) FROM quotas),
                    (SELECT json_group_array(json_array(shelf, snapshots)) FROM space_kept WHERE snapshots > 0),
                    (SELECT json_group_array(id) FROM accounts WHERE quota IS NOT NULL)",
        )
        .fetch_one(conn)
        .await?;
        let mut here: HashMap<NodeId, Here> = HashMap::new();
        for (id, node, account, group, level, until) in parse::<Vec<GrantJson>>(&grants)? {
            let subject = match (account, group) {
                (Some(account), _) => Subject::Account(AccountId(account)),
                (None, Some(group)) => Subject::Group(GroupId(group)),
                (None, None) => Subject::Everyone,
            };
            let gives = Gives::from_word(&level)
                .ok_or_else(|| StoreError::Catalogue(format!("grant {id} gives \"{level}\"")))?;
            let grant = Grant { id: GrantId(id), subject, gives, until };
            here.entry(NodeId(node)).or_default().grants.push(grant);
        }
        for node in parse::<Vec<i64>>(&afresh)? {
            here.entry(NodeId(node)).or_default().afresh = true;
        }
        let mut groups: HashMap<AccountId, Vec<GroupId>> = HashMap::new();
        for (account, group) in parse::<Vec<(i64, i64)>>(&members)? {
            groups.entry(AccountId(account)).or_default().push(GroupId(group));
        }
        let mut owned: HashMap<ShelfId, Vec<AccountId>> = HashMap::new();
        for (shelf, account) in parse::<Vec<(i64, i64)>>(&owners)? {
            owned.entry(ShelfId(shelf)).or_default().push(AccountId(account));
        }
        let lines = parse::<Vec<(i64, i64)>>(&lines)?;
        let lines = lines.into_iter().map(|(s, line)| (ShelfId(s), line.max(0) as u64)).collect();
        let home_lines = parse::<Vec<(i64, i64)>>(&homes)?;
        let home_lines = home_lines.into_iter().map(|(a, line)| (AccountId(a), line.max(0) as u64)).collect();
        let set = parse::<Vec<(i64, i64, String, String)>>(&rules)?.into_iter().filter_map(read_rule);
        let (mut disabled, mut closed) = (HashSet::new(), HashMap::new());
        for (id, off, doors) in parse::<Vec<(i64, i64, String)>>(&shut)? {
            let doors: BTreeSet<Door> =
                doors.split([',', ' ']).filter_map(|w| Door::from_word(w.trim())).collect();
            if off != 0 {
                disabled.insert(AccountId(id));
            }
            closed.insert(AccountId(id), doors);
        }
        let names = parse::<Vec<(i64, String)>>(&names)?;
        let size = |n: Option<i64>| n.map(|n| n.max(0) as u64);
        let (mut soft, mut folder_lines, mut whole_lines) =
            (HashMap::new(), HashMap::new(), Lines::default());
        for (kind, of, its, hard) in parse::<Vec<LineJson>>(&quotas)? {
            let lines = Lines { soft: size(its), hard: size(hard) };
            match (kind.as_str(), lines.soft) {
                ("organisation", _) => whole_lines = lines,
                ("folder", _) => drop(folder_lines.insert(NodeId(of), lines)),
                ("account", Some(line)) => drop(soft.insert(("account", of), line)),
                (_, Some(line)) => drop(soft.insert(("shelf", of), line)),
                _ => {}
            }
        }
        let bars = here.iter().filter(|(_, h)| h.bars()).map(|(n, _)| *n).collect();
        Ok(Access {
            here,
            groups_of: groups.into_iter().map(|(a, g)| (a, g.into())).collect(),
            bars,
            owners: owned,
            lines,
            home_lines,
            rules: Rules::new(set),
            guests: parse::<Vec<i64>>(&guests)?.into_iter().map(AccountId).collect(),
            disabled,
            closed,
            group_names: names.into_iter().map(|(id, name)| (GroupId(id), name)).collect(),
            soft,
            folder_lines,
            whole_lines,
            only_snapshots: parse::<Vec<(i64, i64)>>(&only)?
                .into_iter()
                .map(|(s, n)| (ShelfId(s), n))
                .collect(),
            own_lines: parse::<Vec<i64>>(&own)?.into_iter().map(AccountId).collect(),
        })
    }

    /// A shelf that is not written yet.
    pub fn add_owner(&mut self, shelf: &Shelf) {
        if let Some(owner) = shelf.owner {
            self.owners.entry(shelf.id).or_default().push(owner);
        }
    }

    /// The owners of a shelf.
    pub fn owners(&self, shelf: ShelfId) -> &[AccountId] {
        self.owners.get(&shelf).map_or(&[], Vec::as_slice)
    }

    /// Whether somebody owns a shelf.
    pub fn owns(&self, account: AccountId, shelf: ShelfId) -> bool {
        self.owners(shelf).contains(&account)
    }

    /// How many bytes a shelf may hold.
    pub fn line(&self, shelf: &Shelf) -> Option<u64> {
        match shelf.kind {
            ShelfKind::Home => self.home_lines.get(&shelf.owner?).copied(),
            ShelfKind::Shared => self.lines.get(&shelf.id).copied(),
        }
    }

    /// Whether anything has a line that nothing passes.
    pub fn has_lines(&self) -> bool {
        !self.lines.is_empty()
            || !self.home_lines.is_empty()
            || !self.folder_lines.is_empty()
            || self.whole_lines.hard.is_some()
    }

    /// The lines of a folder.
    pub fn folder_lines(&self, node: NodeId) -> Option<Lines> {
        self.folder_lines.get(&node).copied()
    }

    /// Those of all folders.
    pub fn all_folder_lines(&self) -> impl Iterator<Item = (NodeId, Lines)> {
        self.folder_lines.iter().map(|(n, l)| (*n, *l))
    }

    /// The lines of the organisation.
    pub fn whole_lines(&self) -> Lines {
        self.whole_lines
    }

    /// Past bytes on a shelf that only snapshots keep.
    pub fn only_snapshots(&self, shelf: ShelfId) -> i64 {
        self.only_snapshots.get(&shelf).copied().unwrap_or(0)
    }

    /// Whether an account has a line of its own, not by its groups.
    pub fn has_own_line(&self, account: AccountId) -> bool {
        self.own_lines.contains(&account)
    }

    /// Whether somebody may have such openings: by the rule that names groups.
    pub fn makes(&self, rules: &Rules, rule: Rule, account: AccountId) -> bool {
        let Value::Words(words) = rules.decide(rule, &[]).value else { return false };
        let mine = self.groups_of(account);
        !self.guests.contains(&account)
            && (words.contains(EVERYONE)
                || mine.iter().filter_map(|g| self.group_names.get(g)).any(|name| words.contains(name)))
    }

    /// Whether an account is disabled.
    pub fn is_disabled(&self, account: AccountId) -> bool {
        self.disabled.contains(&account)
    }

    /// Whether a door is closed to an account, by a rule or to it alone.
    pub fn is_closed(&self, account: AccountId, door: Door) -> bool {
        self.closed.get(&account).is_some_and(|doors| doors.contains(&door))
            || self.rules.closed(&self.groups_of(account)).contains(&door)
    }

    /// All rules that are set.
    pub fn rules(&self) -> &Rules {
        &self.rules
    }

    /// What is set on a node, if anything is.
    pub fn here(&self, node: NodeId) -> Option<&Here> {
        self.here.get(&node)
    }

    /// All nodes on which something is set.
    pub fn places(&self) -> impl Iterator<Item = (NodeId, &Here)> {
        self.here.iter().map(|(n, h)| (*n, h))
    }

    /// Nodes with a denial or a fresh start.
    pub fn bars(&self) -> &[NodeId] {
        &self.bars
    }

    /// The groups of an account.
    pub fn groups_of(&self, account: AccountId) -> Arc<[GroupId]> {
        self.groups_of.get(&account).cloned().unwrap_or_default()
    }
}

/// Somebody who looks, with all that decides what is seen.
#[derive(Clone)]
pub(crate) struct Viewer {
    pub access: Arc<Access>,
    account: Option<AccountId>,
    groups: Arc<[GroupId]>,
    now: i64,
    /// A stranger sees with the eyes of whoever let them in, and no further than that.
    through: Option<Through>,
    /// A device may see less than its account.
    scope: Option<Arc<TokenScope>>,
}

impl Viewer {
    pub fn of(access: Arc<Access>, actor: &Actor, now: i64) -> Viewer {
        let scope = actor.scope.clone();
        Viewer { through: actor.through, scope, ..Viewer::of_account(access, actor.account, now) }
    }

    /// `None`: the service itself, which may do everything.
    pub fn of_account(access: Arc<Access>, account: Option<AccountId>, now: i64) -> Viewer {
        let groups = account.map(|a| access.groups_of(a)).unwrap_or_default();
        Viewer { access, account, groups, now, through: None, scope: None }
    }

    fn person(&self, account: AccountId) -> Person<'_> {
        Person { account, groups: &self.groups, guest: self.access.guests.contains(&account) }
    }

    /// Whether a grant is to the one who looks.
    pub fn takes(&self, grant: &Grant) -> bool {
        self.account.is_some_and(|a| self.person(a).takes(grant))
    }

    /// Whether this is who looks.
    pub fn is(&self, account: Option<AccountId>) -> bool {
        account.is_some() && account == self.account
    }

    /// The folders to which a device's token is bound.
    pub fn scoped_to(&self) -> &[NodeId] {
        self.scope.as_ref().map_or(&[], |scope| &scope.nodes)
    }

    /// Whether what is seen may begin at a node: something above it need not be seen then.
    pub fn begins_at(&self, node: NodeId) -> bool {
        self.through.is_some_and(|t| t.node == node)
            || self.scoped_to().contains(&node)
            || self.access.here(node).is_some_and(|here| here.grants.iter().any(|g| self.takes(g)))
    }

    /// Whether a grant to the one who looks counts now.
    pub fn has(&self, grant: &Grant) -> bool {
        !grant.ended(self.now) && self.takes(grant)
    }

    /// What one may do at the end of a way. `way`: from the node up to the top of its shelf.
    pub fn standing(&self, shelf: ShelfId, way: impl DoubleEndedIterator<Item = NodeId>) -> Standing {
        let Some(account) = self.account else { return Standing::above(true) };
        let owner = self.access.owns(account, shelf);
        let above = match &self.scope {
            _ if self.through.is_some() => Standing::outside(owner),
            None => Standing::above(owner),
            Some(scope) if scope.nodes.is_empty() => Standing::above(owner).within(scope.most),
            Some(_) => Standing::outside(owner),
        };
        way.rev().fold(above, |standing, node| self.enter(standing, node))
    }

    /// One step further down.
    pub fn enter(&self, standing: Standing, node: NodeId) -> Standing {
        let standing = match self.through {
            Some(through) if through.node == node => standing.within(through.most),
            _ => standing,
        };
        let standing = match &self.scope {
            Some(scope) if scope.nodes.contains(&node) => standing.within(scope.most),
            _ => standing,
        };
        match (self.account, self.access.here(node)) {
            (Some(account), Some(here)) => {
                standing.enter(&self.person(account), node, here, self.now, &mut ())
            }
            _ => standing,
        }
    }

    /// The same walk, with the grants that say so.
    pub fn explain(&self, shelf: ShelfId, way: impl DoubleEndedIterator<Item = NodeId>) -> Explained {
        let Some(account) = self.account else {
            return Explained { level: Some(Level::Manage), owner: true, reasons: Vec::new() };
        };
        let way = way.rev().filter_map(|n| self.access.here(n).map(|h| (n, h)));
        explain(self.access.owns(account, shelf), &self.person(account), way, self.now)
    }
}

/// Refuses what is not allowed: whoever may see nothing learns nothing.
pub(crate) fn need(level: Option<Level>, need: Level) -> Result<()> {
    match level {
        None => Err(StoreError::NotFound("The file or folder".into())),
        Some(have) if have < need => Err(StoreError::NotAllowed { need: need.word(), have: have.word() }),
        Some(_) => Ok(()),
    }
}

/// Whether bytes may be put at a name: into a folder with this level, where something stands
/// already that may be seen with that level.
pub(crate) fn may_put(folder: Option<Level>, there: Option<Option<Level>>, name: &str) -> Result<()> {
    match there {
        Some(Some(level)) => need(Some(level), Level::Edit),
        Some(None) => {
            need(folder, Level::Add)?;
            Err(StoreError::NameUnusable(name.into()))
        }
        None => need(folder, Level::Add),
    }
}

/// Who is let in at a place by what is set on the way to it.
pub(crate) struct LetIn {
    allowed: HashSet<Subject>,
    denied: HashSet<Subject>,
}

impl LetIn {
    /// `way`: from the place up to the top.
    pub fn at(access: &Access, shelf: &Shelf, way: &[Arc<Row>], now: i64) -> LetIn {
        let mut found = LetIn { allowed: HashSet::new(), denied: HashSet::new() };
        for here in way.iter().rev().filter_map(|r| access.here(r.node)) {
            if here.afresh {
                found.allowed.clear();
            }
            for grant in here.grants.iter().filter(|g| !g.ended(now)) {
                match grant.gives {
                    Gives::Deny => found.denied.insert(grant.subject),
                    Gives::Allow(_) => found.allowed.insert(grant.subject),
                };
            }
        }
        found.allowed.extend(access.owners(shelf.id).iter().copied().map(Subject::Account));
        found
    }

    /// Somebody who would see at the other place what they do not see here. Careful: a group
    /// counts as let in here only if it is so itself, or everybody is.
    pub fn widened_by(&self, other: &LetIn, access: &Access, moved: Option<&Here>) -> Option<Subject> {
        let own = |subject: &Subject| {
            moved.is_some_and(|h| h.grants.iter().any(|g| g.subject == *subject && g.gives != Gives::Deny))
        };
        let here = |subject: &Subject| {
            let member = !matches!(subject, Subject::Account(a) if access.guests.contains(a));
            self.allowed.contains(subject)
                || self.allowed.contains(&Subject::Everyone) && member
                || own(subject)
                || matches!(subject, Subject::Account(a)
                    if access.groups_of(*a).iter().any(|g| self.allowed.contains(&Subject::Group(*g))))
        };
        let lifted = self.denied.iter().find(|s| !other.denied.contains(s) && !other.allowed.is_empty());
        // What starts afresh takes none of the levels of its new place.
        let reaches = !moved.is_some_and(|h| h.afresh);
        lifted
            .or_else(|| {
                other.allowed.iter().filter(|_| reaches).find(|s| !here(s) && !other.denied.contains(s))
            })
            .copied()
    }
}
