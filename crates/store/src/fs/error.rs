//! What can go wrong, and what is true of the data afterwards: nothing was changed by an
//! operation that ended in an error, unless the variant says otherwise.

use std::sync::Arc;
use yellow_attic_core::cursor::CursorError;
use yellow_attic_core::{NameError, PathError};

/// Why an operation was refused or failed.
#[derive(Debug, Clone, thiserror::Error)]
pub enum StoreError {
    /// Nothing there, or nothing that the caller may know of.
    #[error("{0} was not found")]
    NotFound(String),
    /// The caller may see it, but not do this.
    #[error("this needs the right to {need}; yours is to {have}")]
    NotAllowed {
        /// The level asked for.
        need: &'static str,
        /// The level there is.
        have: &'static str,
    },
    /// What was looked at is not what would happen now.
    #[error("what you looked at is not what would happen now: something has changed meanwhile")]
    PlanStale,
    /// The bytes of a past state went by a rule, or by hand.
    #[error("the bytes of this state of \"{0}\" are no longer held")]
    NotHeld(String),
    /// A folder is being rolled back, and this touches the same tree.
    #[error("\"{0}\" is being rolled back")]
    RollingBack(String),
    /// The folder was not there at that moment.
    #[error("\"{name}\" was not there yet; it was made {made}")]
    NotThereYet {
        /// The folder.
        name: String,
        /// When it was made, RFC 3339.
        made: String,
    },
    /// Somebody has changed the file since.
    #[error("\"{name}\" has changed since you looked: it is the state of {changed} now")]
    NewerState {
        /// The file.
        name: String,
        /// When it changed last, RFC 3339.
        changed: String,
    },
    /// A rule or a snapshot keeps what was to go by hand.
    #[error("{0} is kept: {1}")]
    KeptByRule(String, String),
    /// The name is in use in that folder.
    #[error("the name \"{0}\" is taken in this folder")]
    NameTaken(String),
    /// Somebody must be able to decide.
    #[error("this is the last administrator")]
    LastAdministrator,
    /// The name is in use by something that the caller may not know of.
    #[error("the name \"{0}\" cannot be used here")]
    NameUnusable(String),
    /// A folder holds something that the caller may not change, or not even see.
    #[error("it contains things that you may not change")]
    HoldsOthers,
    /// At its new place somebody would see it who cannot see it now.
    #[error("moving it there would let {0} see it; that needs the right to manage it")]
    Widens(String),
    /// A folder stands where a file should go, or the other way round.
    #[error("\"{0}\" is a folder there, and folders are not replaced")]
    FolderInTheWay(String),
    /// A file where a folder is needed.
    #[error("\"{0}\" is a file, not a folder")]
    NotAFolder(String),
    /// A folder where a file is needed.
    #[error("\"{0}\" is a folder, not a file")]
    NotAFile(String),
    /// If-Match or If-None-Match does not hold.
    #[error("the file is not in the state that the request asks for")]
    ConditionFailed {
        /// What stands there.
        present: Option<Box<yellow_attic_core::conditions::Standing>>,
    },
    /// The name cannot be.
    #[error("{0}")]
    Name(#[from] NameError),
    /// The path cannot be.
    #[error("{0}")]
    Path(#[from] PathError),
    /// A folder would come to lie within itself.
    #[error("a folder cannot be moved or copied into itself")]
    IntoItself,
    /// The tree would become deeper than 256 names.
    #[error("the place would be {0} names deep; the deepest is 256")]
    TooDeep(usize),
    /// The top of a shelf cannot be moved, renamed or removed.
    #[error("the top of a shelf stays where it is")]
    ShelfTop,
    /// Another thing of this kind has that name already.
    #[error("{0}")]
    Exists(String),
    /// The bytes that arrived are not the bytes that were announced.
    #[error("{got} bytes arrived of {announced} announced")]
    ShortBody {
        /// What was announced.
        announced: u64,
        /// What came.
        got: u64,
    },
    /// An upload goes on where it stopped, and nowhere else.
    #[error("the upload has {present} bytes; it cannot go on at {offset}")]
    WrongOffset {
        /// Where the sender would go on.
        offset: u64,
        /// How many bytes have arrived.
        present: u64,
    },
    /// The bytes are not those that the sender announced. They are dropped.
    #[error("the bytes that arrived do not have the hash that was announced")]
    WrongHash,
    /// Somebody holds a lock.
    #[error("\"{name}\" is locked by {by}")]
    Locked {
        /// What is locked, as far as it may be named.
        name: String,
        /// The node on which the lock lies.
        node: yellow_attic_core::NodeId,
        /// Who holds it.
        by: String,
        /// When it ends by itself, in milliseconds.
        until: i64,
        /// Whether a program holds it by a token: then even its own account must name that.
        by_token: bool,
    },
    /// Another sender goes on with the upload.
    #[error("another request goes on with this upload")]
    TakenOver,
    /// An account may have so many unfinished uploads.
    #[error("{0} uploads are unfinished, the most that one account may have")]
    TooManyUploads(i64),
    /// What one account has announced and not sent yet would take too much of the free room.
    #[error("{announced} bytes are announced and not sent yet; beside the largest, at most {most} may be")]
    TooMuchAnnounced {
        /// So many bytes.
        announced: u64,
        /// The most.
        most: u64,
    },
    /// More files and folders than fit one answer.
    #[error("it holds more than {0} files and folders, the most that go into one archive")]
    TooMany(usize),
    /// The sender broke off.
    #[error("the transfer broke off after {0} bytes")]
    BrokenBody(u64),
    /// More bytes than were announced. What fits stays.
    #[error("more bytes come than the {0} that were announced")]
    MoreThanAnnounced(u64),
    /// How long an upload is was said already, and differently.
    #[error("the upload was said to be {0} bytes long, and stays so")]
    LengthKnown(u64),
    /// A part of an upload broke off; what came before is kept.
    #[error("the part broke off; {0} bytes of the upload have arrived")]
    BrokenPart(u64),
    /// More bytes than the service takes in one file.
    #[error("the file is larger than {0} bytes, the most this service takes")]
    TooLarge(u64),
    /// The shelf holds as much as it may.
    #[error(
        "{shelf} may hold {line} bytes; {used} are on it, {claimed} are on their way, and {wanted} more are wanted"
    )]
    QuotaFull {
        /// Which shelf.
        shelf: String,
        /// The most it may hold.
        line: u64,
        /// What is on it.
        used: u64,
        /// What uploads under way have claimed.
        claimed: u64,
        /// What was to come.
        wanted: u64,
    },
    /// Somebody may not have such a link or intake.
    #[error("this {what} is refused: {why}")]
    OpeningRefused {
        /// Link or intake.
        what: &'static str,
        /// Why.
        why: String,
    },
    /// A rule says how long one may live at most.
    #[error("a rule lets a {what} live for {days} days at most")]
    OpeningTooLong {
        /// Link or intake.
        what: &'static str,
        /// How many days.
        days: u32,
        /// The latest end, in milliseconds.
        longest: i64,
    },
    /// The ending of an address cannot be.
    #[error("{0}")]
    BadEnding(String),
    /// The ending of an address is in use, or was lately.
    #[error("the ending \"{0}\" is taken")]
    EndingTaken(String),
    /// All downloads or deliveries are used.
    #[error("it was used as often as it may be")]
    UsedUp,
    /// A file of a kind that an intake does not take.
    #[error("{0}")]
    OtherKind(yellow_attic_core::intake::KindError),
    /// More than one delivery may hold.
    #[error("a delivery may hold {0} bytes")]
    DeliveryTooLarge(u64),
    /// Its sender was done with it.
    #[error("the delivery is done")]
    DeliveryDone,
    /// No file has arrived.
    #[error("nothing has arrived yet")]
    NothingDelivered,
    /// A rule refuses it.
    #[error("{0}")]
    Rule(#[from] yellow_attic_core::rules::RuleError),
    /// No room beyond the reserve that keeps the catalogue safe.
    #[error("the disk is full: {free} bytes are free, and {reserve} of them are kept in reserve")]
    DiskFull {
        /// Free bytes.
        free: u64,
        /// Bytes that only the catalogue and placing may use.
        reserve: u64,
    },
    /// The file system holds as many files as it can, but for a reserve.
    #[error("the disk can hold no more files: there is room for {free}, and {reserve} are kept in reserve")]
    NoMoreFiles {
        /// Files that it can still hold.
        free: u64,
        /// Files that only the catalogue and placing may make.
        reserve: u64,
    },
    /// The disk takes no writes.
    #[error("the disk is read-only")]
    ReadOnlyDisk,
    /// Writing is refused until the cause is gone; reading goes on.
    #[error("writing is stopped: {0}")]
    WritesStopped(String),
    /// A part of the data folder lies on another device than the rest: renames between them cannot be.
    #[error(
        "{0} lies on another device than staging, and files are renamed between the two; put the whole data folder on one file system"
    )]
    OtherDevice(String),
    /// There is no store in the folder.
    #[error("{0}")]
    NoStore(String),
    /// The key that seals second factors is not there.
    #[error("the key of the secrets is missing: {0}")]
    SecretsShut(String),
    /// The folder of a shelf is not there: its disk may not be mounted. Nothing is made in its stead.
    #[error("the folder of the shelf \"{0}\" is not there: is its disk mounted?")]
    ShelfMissing(String),
    /// What is owed to the folder of a shelf cannot be carried out; other shelves go on.
    #[error("writing to the shelf \"{shelf}\" is stopped: {reason}")]
    ShelfStopped {
        /// Which.
        shelf: String,
        /// What the disk says.
        reason: String,
    },
    /// The file is recorded, and not on the disk where it belongs.
    #[error("the bytes of \"{0}\" are not on the disk where they belong")]
    BytesMissing(String),
    /// The file is there, and the service may not or cannot read it.
    #[error("the bytes of \"{path}\" cannot be read: {reason}")]
    Unreadable {
        /// Which.
        path: String,
        /// What the disk says.
        reason: String,
    },
    /// A symbolic link, device or socket lies where a file belongs.
    #[error("what lies on the disk at \"{0}\" is neither a file nor a folder")]
    NotPlain(String),
    /// There is no such moment.
    #[error("there is no such moment")]
    NoSuchMoment,
    /// The folder it was in is gone too.
    #[error("the folder in which it was is gone too")]
    PlaceGone,
    /// It was not removed: there is nothing to bring back.
    #[error("the folder is still here")]
    StillHere,
    /// Being brought back in the background.
    #[error("the folder is being brought back")]
    Busy,
    /// The cursor is not taken.
    #[error("{0}")]
    Cursor(#[from] CursorError),
    /// Something else that the caller sent cannot be.
    #[error("{0}")]
    BadInput(String),
    /// The engine is stopping.
    #[error("the service is stopping")]
    Stopping,
    /// Somebody ended it.
    #[error("it was stopped before its end")]
    Stopped,
    /// Not all that went since a number is known any more.
    #[error("not all that went since then is known any more")]
    Forgotten,
    /// The disk failed. On a write: unknown whether it took effect; ask again.
    #[error("{context}: {source}")]
    Io {
        /// What was being done.
        context: String,
        /// What the disk says.
        source: Arc<std::io::Error>,
    },
    /// A row of the catalogue says what cannot be.
    #[error("a row of the catalogue is damaged: {0}")]
    DamagedRow(String),
    /// The catalogue failed. On a write: unknown whether it took effect; ask again.
    #[error("the catalogue failed: {0}")]
    Sqlite(#[source] Arc<sqlx::Error>),
    /// What the catalogue holds does not go together.
    #[error("the catalogue failed: {0}")]
    Catalogue(String),
}

impl StoreError {
    /// Wraps an I/O error, telling a full and a read-only disk apart.
    pub fn io(context: impl Into<String>, error: &std::io::Error) -> StoreError {
        let context = context.into();
        match error.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
            Some(rustix::io::Errno::PERM | rustix::io::Errno::ACCESS) => {
                StoreError::WritesStopped(format!("{context}: the disk does not permit it"))
            }
            Some(rustix::io::Errno::NOSPC | rustix::io::Errno::DQUOT) => {
                StoreError::DiskFull { free: 0, reserve: 0 }
            }
            Some(rustix::io::Errno::ROFS) => StoreError::ReadOnlyDisk,
            code => {
                // An error is not copied: its code is, and where it has none, its words.
                let source = match code {
                    Some(code) => std::io::Error::from_raw_os_error(code.raw_os_error()),
                    None => std::io::Error::new(error.kind(), error.to_string()),
                };
                StoreError::Io { context, source: Arc::new(source) }
            }
        }
    }
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> StoreError {
        if let sqlx::Error::Database(db) = &error {
            // Primary result codes of SQLite: 13 is FULL, 8 is READONLY.
            match db.code().and_then(|c| c.parse::<i32>().ok()).map(|c| c & 0xff) {
                Some(13) => return StoreError::DiskFull { free: 0, reserve: 0 },
                Some(8) => return StoreError::ReadOnlyDisk,
                _ => {}
            }
        }
        StoreError::Sqlite(Arc::new(error))
    }
}

/// The answer of an operation.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;
