//! Lists and plans of people: what each row asks for, against what there is.
//!
//! The same functions tell what would happen and decide what happens.

use crate::collate::looks;
use crate::password::{check_mail, check_sign_in};
use crate::size;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// The most rows of one list.
pub const MOST_ROWS: usize = 50_000;
/// The most lines that a quoted field runs over; beyond that its quotation mark was never closed.
const LONGEST_FIELD: usize = 20;

/// A letter that its recipient can do without. Letters about the sign-in itself always come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Notice {
    /// Somebody gave one access to something.
    Given,
    /// A computer was connected in one's name.
    Computer,
    /// An administrator looked as oneself.
    Look,
    /// Something was handed in at one's intake, or passwords of one's link are guessed.
    Strangers,
}

impl Notice {
    /// All of them.
    pub const ALL: [Notice; 4] = [Notice::Given, Notice::Computer, Notice::Look, Notice::Strangers];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Notice::Given => "given",
            Notice::Computer => "computer",
            Notice::Look => "look",
            Notice::Strangers => "strangers",
        }
    }

    /// What it tells.
    pub fn title(self) -> &'static str {
        match self {
            Notice::Given => "Somebody gives you access to something",
            Notice::Computer => "A computer is connected in your name",
            Notice::Look => "An administrator looks at your files as you see them",
            Notice::Strangers => {
                "Something is handed in at your intake, or somebody guesses passwords of your link"
            }
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Notice> {
        Notice::ALL.into_iter().find(|n| n.word() == word)
    }
}

/// What a column of a list says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Column {
    /// The name to sign in with.
    SignIn,
    /// The name to show.
    Name,
    /// The mail address.
    Mail,
    /// Groups, with `|` or `;` between them.
    Groups,
    /// How much the home shelf may hold.
    Quota,
    /// administrator or member.
    Role,
}

impl Column {
    /// All of them.
    pub const ALL: [Column; 6] =
        [Column::SignIn, Column::Name, Column::Mail, Column::Groups, Column::Quota, Column::Role];

    /// Its own word.
    pub fn word(self) -> &'static str {
        match self {
            Column::SignIn => "sign_in",
            Column::Name => "display_name",
            Column::Mail => "mail",
            Column::Groups => "groups",
            Column::Quota => "quota",
            Column::Role => "role",
        }
    }

    /// Reads its own word.
    pub fn from_word(word: &str) -> Option<Column> {
        Column::ALL.into_iter().find(|c| c.word() == word)
    }

    /// The column that a heading most likely means.
    pub fn guess(heading: &str) -> Option<Column> {
        let plain: String =
            heading.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect();
        Some(match plain.as_str() {
            "signin" | "signinname" | "login" | "account" | "accountname" | "user" | "username" => {
                Column::SignIn
            }
            "displayname" | "name" | "fullname" => Column::Name,
            "mail" | "email" | "mailaddress" | "emailaddress" => Column::Mail,
            "groups" | "group" => Column::Groups,
            "quota" | "space" => Column::Quota,
            "role" => Column::Role,
            _ => return None,
        })
    }
}

/// What is wanted of an account. What is left out stays, or takes what is usual.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted {
    /// The name to sign in with.
    pub sign_in: String,
    /// The name to show.
    pub display_name: Option<String>,
    /// The mail address; an empty one takes it away.
    pub mail: Option<String>,
    /// All groups it is to be in.
    pub groups: Option<Vec<String>>,
    /// How much its home may hold; `Some(None)`: no line of its own.
    pub quota: Option<Option<u64>>,
    /// What it may do.
    pub role: Option<String>,
}

/// An account as it is.
#[derive(Clone, Debug, Default)]
pub struct Present {
    /// Sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// The mail address.
    pub mail: Option<String>,
    /// Its groups.
    pub groups: BTreeSet<String>,
    /// How much its home may hold.
    pub quota: Option<u64>,
    /// What it may do.
    pub role: String,
}

/// What is wrong with a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrong {
    /// The column, by its own word or its heading; empty for the whole row.
    pub column: String,
    /// What is wrong.
    pub reason: String,
}

/// What becomes of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fate {
    /// A new account is made.
    Make,
    /// An account changes: what, from what to what.
    Change(Vec<(Column, String, String)>),
    /// All is so already.
    Same,
    /// The account is there, and changes were not asked for.
    There,
    /// Nothing, for these reasons.
    Wrong(Vec<Wrong>),
}

/// A row of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The line on which it begins, from 1.
    pub line: usize,
    /// What it asks for, or why it cannot be read.
    pub wanted: Result<Wanted, Vec<Wrong>>,
}

/// A list that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct List {
    /// Its headings, and what each is taken for.
    pub columns: Vec<(String, Option<Column>)>,
    /// What stands between its fields.
    pub separator: char,
    /// Its rows.
    pub rows: Vec<Row>,
}

/// Why a list cannot be read at all.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ListError {
    /// Nothing in it.
    #[error("the list is empty")]
    Empty,
    /// Not text.
    #[error("line {0} is not UTF-8")]
    NotText(usize),
    /// No column for the sign-in name.
    #[error("no column is taken for the sign-in name; its headings are: {0}")]
    NoSignIn(String),
    /// A heading that is not there, or a column that does not exist.
    #[error("{0}")]
    Mapping(String),
    /// Too many.
    #[error("the list has more than {MOST_ROWS} rows")]
    TooMany,
}

/// Reads a list: CSV (RFC 4180) in UTF-8, with or without a byte order mark, with commas, semicolons
/// or tabs. The first line names the columns. `mapping`: which heading is which column, where that
/// is not to be guessed; an empty word leaves a column out.
pub fn read_list(bytes: &[u8], mapping: &BTreeMap<String, String>) -> Result<List, ListError> {
    let bytes = bytes.strip_prefix("\u{feff}".as_bytes()).unwrap_or(bytes);
    let text = std::str::from_utf8(bytes).map_err(|e| {
        ListError::NotText(1 + bytes[..e.valid_up_to()].iter().filter(|b| **b == b'\n').count())
    })?;
    let lines: Vec<&str> = text.split('\n').map(|l| l.strip_suffix('\r').unwrap_or(l)).collect();
    let first = lines.iter().position(|l| !l.trim().is_empty()).ok_or(ListError::Empty)?;
    let heading = lines[first];
    let outside = |mark: char| {
        let mut quoted = false;
        heading
            .chars()
            .filter(|c| {
                quoted ^= *c == '"';
                !quoted && *c == mark
            })
            .count()
    };
    let separator = [',', ';', '\t'].into_iter().rev().max_by_key(|m| outside(*m)).unwrap_or(',');
    let headings = fields(heading, separator).unwrap_or_default();
    let columns = map_columns(&headings, mapping)?;
    if !columns.iter().any(|(_, c)| *c == Some(Column::SignIn)) {
        return Err(ListError::NoSignIn(headings.join(", ")));
    }
    let mut rows = Vec::new();
    for (line, text) in records(text, &lines, first + 1, separator, columns.len()) {
        if rows.len() == MOST_ROWS {
            return Err(ListError::TooMany);
        }
        rows.push(Row { line, wanted: read_row(text, separator, &columns) });
    }
    Ok(List { columns, separator, rows })
}

/// Splits lines into records, each with its first line. A field in quotation marks may run over
/// several lines, if the record is whole then; a mark that is never closed breaks its own line only.
fn records<'t>(
    text: &'t str,
    lines: &[&'t str],
    first: usize,
    separator: char,
    columns: usize,
) -> Vec<(usize, &'t str)> {
    let offset = |line: &str| line.as_ptr() as usize - text.as_ptr() as usize;
    let between = |n: usize, end: usize| &text[offset(lines[n])..offset(lines[end]) + lines[end].len()];
    let odd = |line: &str| line.bytes().filter(|b| *b == b'"').count() % 2 == 1;
    let (mut found, mut n) = (Vec::new(), first);
    while n < lines.len() {
        let mut end = n;
        if odd(lines[n]) {
            let last = (n + LONGEST_FIELD).min(lines.len() - 1);
            let whole = |m: &usize| {
                let record = between(n, *m);
                odd(lines[*m])
                    && strictly_quoted(record, separator)
                    && fields(record, separator).is_some_and(|f| f.len() == columns)
            };
            end = (n + 1..=last).find(whole).unwrap_or(n);
        }
        if !lines[n].trim().is_empty() {
            found.push((n + 1, between(n, end)));
        }
        n = end + 1;
    }
    found
}

/// Whether quotation marks stand only around whole fields, or doubled within them.
fn strictly_quoted(record: &str, separator: char) -> bool {
    let mut chars = record.chars().peekable();
    loop {
        let quoted = chars.next_if_eq(&'"').is_some();
        while let Some(c) = chars.next() {
            match (quoted, c) {
                (true, '"') if chars.next_if_eq(&'"').is_some() => {}
                (true, '"') => break,
                (false, '"') => return false,
                (false, c) if c == separator => break,
                _ => {}
            }
        }
        match chars.peek() {
            None => return true,
            // A quoted field ends where the next one begins.
            Some(c) if quoted && *c == separator => drop(chars.next()),
            Some(_) if quoted => return false,
            Some(_) => {}
        }
    }
}

fn fields(record: &str, separator: char) -> Option<Vec<String>> {
    if record.bytes().filter(|b| *b == b'"').count() % 2 == 1 {
        return None;
    }
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(separator as u8)
        .from_reader(record.as_bytes());
    let record = reader.records().next()?.ok()?;
    Some(record.iter().map(|f| f.trim().to_string()).collect())
}

fn map_columns(
    headings: &[String],
    mapping: &BTreeMap<String, String>,
) -> Result<Vec<(String, Option<Column>)>, ListError> {
    for (heading, column) in mapping {
        if !headings.contains(heading) {
            let all = headings.join(", ");
            return Err(ListError::Mapping(format!("there is no heading \"{heading}\"; there are: {all}")));
        }
        if !column.is_empty() && Column::from_word(column).is_none() {
            let known: Vec<_> = Column::ALL.iter().map(|c| c.word()).collect();
            return Err(ListError::Mapping(format!(
                "\"{column}\" is no column; there are: {}",
                known.join(", ")
            )));
        }
    }
    let said: BTreeSet<Column> = mapping.values().filter_map(|c| Column::from_word(c)).collect();
    let mut taken = BTreeSet::new();
    let mut columns = Vec::new();
    for heading in headings {
        let column = match mapping.get(heading) {
            Some(word) => Column::from_word(word),
            None => Column::guess(heading).filter(|c| !said.contains(c)),
        };
        let column = column.filter(|c| taken.insert(*c));
        columns.push((heading.clone(), column));
    }
    Ok(columns)
}

fn read_row(text: &str, separator: char, columns: &[(String, Option<Column>)]) -> Result<Wanted, Vec<Wrong>> {
    let whole = |reason: String| vec![Wrong { column: String::new(), reason }];
    let fields =
        fields(text, separator).ok_or_else(|| whole("a quotation mark is opened and never closed".into()))?;
    if fields.len() != columns.len() {
        return Err(whole(format!(
            "it has {} fields, and the first line names {}",
            fields.len(),
            columns.len()
        )));
    }
    let mut wanted = Wanted::default();
    let mut wrong = Vec::new();
    for ((heading, column), field) in columns.iter().zip(fields) {
        match column {
            None => {}
            Some(Column::SignIn) => wanted.sign_in = field.to_lowercase(),
            // An empty field leaves what is there.
            Some(_) if field.is_empty() => {}
            Some(Column::Name) => wanted.display_name = Some(field),
            Some(Column::Mail) => wanted.mail = Some(field),
            Some(Column::Role) => wanted.role = Some(field.to_lowercase()),
            Some(Column::Groups) => {
                let names = field.split(['|', ';']).map(str::trim).filter(|g| !g.is_empty());
                wanted.groups = Some(names.map(str::to_string).collect());
            }
            Some(Column::Quota) => match read_quota(&field) {
                Some(quota) => wanted.quota = Some(quota),
                None => wrong.push(Wrong {
                    column: heading.clone(),
                    reason: format!("\"{field}\" is no size; write it like 20 GiB, or none"),
                }),
            },
        }
    }
    if wrong.is_empty() { Ok(wanted) } else { Err(wrong) }
}

/// A quota as it is written: a size, or `none`.
pub fn read_quota(text: &str) -> Option<Option<u64>> {
    match text.trim() {
        "none" => Some(None),
        text => size::read(text).map(Some),
    }
}

/// Tells what becomes of each row. `groups`: the names of all groups. Rows are looked at together:
/// a name or mail address may stand in one of them only.
pub fn plan_people(rows: &[Row], present: &[Present], groups: &[String], change: bool) -> Vec<Fate> {
    let there: HashMap<&str, &Present> = present.iter().map(|p| (p.sign_in.as_str(), p)).collect();
    let mut mails: HashMap<String, String> =
        present.iter().filter_map(|p| Some((p.mail.as_ref()?.to_lowercase(), p.sign_in.clone()))).collect();
    let known: HashMap<String, &String> = groups.iter().map(|g| (looks(g), g)).collect();
    let mut lines: HashMap<&str, usize> = HashMap::new();
    let mut fates = Vec::with_capacity(rows.len());
    for row in rows {
        let wanted = match &row.wanted {
            Ok(wanted) => wanted,
            Err(wrong) => {
                fates.push(Fate::Wrong(wrong.clone()));
                continue;
            }
        };
        let now = there.get(wanted.sign_in.as_str()).copied();
        let mut wrong = Vec::new();
        let mut say = |column: Column, reason: String| {
            wrong.push(Wrong { column: column.word().into(), reason });
        };
        if !check_sign_in(&wanted.sign_in) {
            say(
                Column::SignIn,
                format!(
                    "\"{}\" cannot be a sign-in name: 1 to 64 of a-z, 0-9, \".\", \"-\", \"_\", beginning with a letter or digit",
                    wanted.sign_in
                ),
            );
        }
        if let Some(first) = lines.get(wanted.sign_in.as_str()) {
            say(Column::SignIn, format!("\"{}\" stands on line {first} already", wanted.sign_in));
        }
        lines.entry(&wanted.sign_in).or_insert(row.line);
        if let Some(mail) = wanted.mail.as_deref().filter(|m| !m.is_empty()) {
            match mails.get(&mail.to_lowercase()) {
                _ if !check_mail(mail) => say(Column::Mail, format!("\"{mail}\" is no mail address")),
                Some(owner) if *owner != wanted.sign_in => {
                    say(Column::Mail, format!("\"{mail}\" is the address of \"{owner}\""));
                }
                _ => {}
            }
        }
        for group in wanted.groups.iter().flatten().filter(|g| !known.contains_key(&looks(g))) {
            say(Column::Groups, format!("there is no group \"{group}\""));
        }
        if let Some(role) = wanted.role.as_deref().filter(|r| !["administrator", "member"].contains(r)) {
            say(Column::Role, format!("\"{role}\" is no role; choose administrator or member"));
        }
        if !wrong.is_empty() {
            fates.push(Fate::Wrong(wrong));
            continue;
        }
        if let Some(mail) = wanted.mail.as_deref().filter(|m| !m.is_empty()) {
            mails.insert(mail.to_lowercase(), wanted.sign_in.clone());
        }
        fates.push(match now {
            None => Fate::Make,
            Some(_) if !change => Fate::There,
            Some(now) => match differences(wanted, now, &known) {
                changes if changes.is_empty() => Fate::Same,
                changes => Fate::Change(changes),
            },
        });
    }
    fates
}

fn differences(
    wanted: &Wanted,
    now: &Present,
    known: &HashMap<String, &String>,
) -> Vec<(Column, String, String)> {
    let mut changes = Vec::new();
    let mut differ = |column, was: &str, will: &str| {
        if was != will {
            changes.push((column, was.to_string(), will.to_string()));
        }
    };
    if let Some(name) = wanted.display_name.as_deref().filter(|n| !n.is_empty()) {
        differ(Column::Name, &now.display_name, name);
    }
    if let Some(mail) = &wanted.mail {
        differ(Column::Mail, now.mail.as_deref().unwrap_or(""), mail);
    }
    if let Some(groups) = &wanted.groups {
        let will: BTreeSet<&str> =
            groups.iter().filter_map(|g| known.get(&looks(g))).map(|g| g.as_str()).collect();
        let join = |list: Vec<&str>| list.join(", ");
        differ(
            Column::Groups,
            &join(now.groups.iter().map(String::as_str).collect()),
            &join(will.into_iter().collect()),
        );
    }
    if let Some(quota) = wanted.quota {
        let show = |quota: Option<u64>| quota.map_or_else(|| "none".to_string(), size::human);
        if quota != now.quota {
            changes.push((Column::Quota, show(now.quota), show(quota)));
        }
    }
    if let Some(role) = &wanted.role
        && *role != now.role
    {
        changes.push((Column::Role, now.role.clone(), role.clone()));
    }
    changes
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn list(text: &str) -> List {
        read_list(text.as_bytes(), &BTreeMap::new()).unwrap()
    }

    fn fates(text: &str, present: &[Present], change: bool) -> Vec<Fate> {
        plan_people(&list(text).rows, present, &["Staff".into(), "Friends of the lamp".into()], change)
    }

    fn reason(fate: &Fate) -> (String, String) {
        match fate {
            Fate::Wrong(wrong) => (wrong[0].column.clone(), wrong[0].reason.clone()),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn marks_and_separators_of_all_kinds_are_read() {
        let plain = "sign_in,name,mail\nmara,Mara Quist,mara@museum.example\n";
        let expected = list(plain).rows;
        assert_eq!(expected[0].wanted.as_ref().unwrap().display_name.as_deref(), Some("Mara Quist"));
        for other in [
            format!("\u{feff}{plain}"),
            plain.replace(',', ";"),
            plain.replace(',', "\t"),
            plain.replace('\n', "\r\n"),
            plain.replace("Mara Quist", "\"Mara Quist\""),
            plain.replace("sign_in,name", "\"Sign-in name\",\"Full Name\""),
        ] {
            assert_eq!(list(&other).rows, expected, "{other}");
        }
    }

    #[test]
    fn a_broken_row_stops_no_other_and_names_line_and_column() {
        let text = "sign_in,name,quota\none,\"An \"\"open\"\" mark,1 GiB\ntwo,Two,1 GiB\nthree,Three\nfour,Four,much\n\"five\",\"Five,\nand more\",none\n";
        let read = list(text);
        assert_eq!(read.rows.iter().map(|r| r.line).collect::<Vec<_>>(), [2, 3, 4, 5, 6]);
        let fates = plan_people(&read.rows, &[], &[], false);
        assert_eq!(reason(&fates[0]).1, "a quotation mark is opened and never closed");
        assert_eq!(fates[1], Fate::Make);
        assert_eq!(reason(&fates[2]).1, "it has 2 fields, and the first line names 3");
        assert_eq!(reason(&fates[3]).0, "quota");
        assert_eq!(fates[4], Fate::Make);
        assert_eq!(read.rows[4].wanted.as_ref().unwrap().quota, Some(None));
    }

    #[test]
    fn columns_can_be_said_and_left_out() {
        let text = "Kürzel;Name;Login\nab;A. B.;old\n".as_bytes();
        let said = |pairs: &[(&str, &str)]| {
            pairs.iter().map(|(h, c)| (h.to_string(), c.to_string())).collect::<BTreeMap<_, _>>()
        };
        let read = read_list(text, &said(&[("Kürzel", "sign_in"), ("Name", "")])).unwrap();
        let wanted = read.rows[0].wanted.clone().unwrap();
        assert_eq!((wanted.sign_in.as_str(), wanted.display_name), ("ab", None));
        for wrong in [said(&[("Namen", "sign_in")]), said(&[("Name", "nickname")])] {
            assert!(matches!(read_list(text, &wrong), Err(ListError::Mapping(_))));
        }
        assert!(matches!(read_list(b"a,b\n1,2\n", &said(&[])), Err(ListError::NoSignIn(_))));
        assert_eq!(read_list(b"\xff\n", &said(&[])), Err(ListError::NotText(1)));
        assert_eq!(read_list(b" \n\n", &said(&[])), Err(ListError::Empty));
    }

    #[test]
    fn each_row_has_one_fate() {
        let present = [Present {
            sign_in: "ines".into(),
            display_name: "Ines".into(),
            mail: Some("ines@museum.example".into()),
            groups: ["Staff".to_string()].into(),
            quota: None,
            role: "administrator".into(),
        }];
        let text = "sign_in,name,mail,groups,role\n\
            ines,Ines,,staff,\n\
            INES,Other,,,\n\
            mara,Mara,INES@museum.example,,\n\
            noor,Noor,noor@museum.example,Staff|Choir,\n\
            olav,Olav,olav@museum.example,Staff; friends of the lamp,member\n\
            pia,Pia,olav@museum.example,,king\n\
            Bad Name,,,,\n";
        let told = fates(text, &present, true);
        assert_eq!(told[0], Fate::Same);
        assert_eq!(reason(&told[1]).1, "\"ines\" stands on line 2 already");
        assert!(reason(&told[2]).1.contains("address of \"ines\""));
        assert_eq!(reason(&told[3]), ("groups".into(), "there is no group \"Choir\"".into()));
        assert_eq!(told[4], Fate::Make);
        assert!(matches!(&told[5], Fate::Wrong(wrong) if wrong.len() == 2));
        assert_eq!(reason(&told[6]).0, "sign_in");
        assert_eq!(fates("login,name\nines,Ines K.\n", &present, false), [Fate::There]);
        assert_eq!(
            fates("login,name,quota\nines,Ines K.,2 GiB\n", &present, true),
            [Fate::Change(vec![
                (Column::Name, "Ines".into(), "Ines K.".into()),
                (Column::Quota, "none".into(), "2.00 GiB".into())
            ])]
        );
    }

    proptest! {
        #[test]
        fn no_text_breaks_it_and_every_row_is_told_of(text in "(sign_in,name\n)?[a-z\",;|\n é]{0,200}") {
            if let Ok(list) = read_list(text.as_bytes(), &BTreeMap::new()) {
                prop_assert_eq!(plan_people(&list.rows, &[], &[], true).len(), list.rows.len());
            }
        }
    }
}
