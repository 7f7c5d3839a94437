-- The catalogue. Times are milliseconds since 1970 UTC; sizes are bytes; every row that
-- belongs to somebody carries the organisation.

CREATE TABLE organisations (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE
);
INSERT INTO organisations (id, name) VALUES (1, 'main');

-- One row: where everything stands.
CREATE TABLE heads (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  moment INTEGER NOT NULL,        -- the last number given out
  at INTEGER NOT NULL,            -- and its time; time never decreases
  node INTEGER NOT NULL,          -- the last node id
  mark INTEGER NOT NULL,          -- the last mark
  placed INTEGER NOT NULL,        -- every mark up to this one is carried out and synced
  record INTEGER NOT NULL,        -- the last row of the record
  link BLOB NOT NULL              -- and its link of the chain
);
INSERT INTO heads VALUES (1, 0, 0, 0, 0, 0, 0, zeroblob(32));

CREATE TABLE accounts (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL REFERENCES organisations,
  sign_in TEXT NOT NULL UNIQUE,   -- unique in the whole service
  display_name TEXT NOT NULL,
  password TEXT NOT NULL,         -- argon2id, PHC string
  role TEXT NOT NULL,             -- administrator, member
  made_at INTEGER NOT NULL
);

CREATE TABLE sessions (
  token BLOB PRIMARY KEY,         -- BLAKE3 of the cookie's value
  org INTEGER NOT NULL,
  account INTEGER NOT NULL REFERENCES accounts,
  made_at INTEGER NOT NULL,
  ends_at INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE devices (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  account INTEGER NOT NULL REFERENCES accounts,
  name TEXT NOT NULL,
  token BLOB NOT NULL UNIQUE,     -- BLAKE3 of the token
  doors TEXT NOT NULL,            -- which ways in it may use
  made_at INTEGER NOT NULL,
  ended_at INTEGER
);
CREATE INDEX devices_of ON devices (account);

CREATE TABLE shelves (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('home', 'shared')),
  name TEXT NOT NULL,
  disk_name TEXT NOT NULL,
  owner INTEGER REFERENCES accounts,
  root INTEGER NOT NULL,          -- the node at its top
  made_at INTEGER NOT NULL,
  UNIQUE (org, kind, name)
);

CREATE TABLE grants (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  node INTEGER NOT NULL,
  account INTEGER,                -- null: everybody in the organisation
  level TEXT NOT NULL
);
CREATE INDEX grants_on ON grants (node);

-- A number stands for its time and for every number after it up to the next row.
CREATE TABLE moments (
  n INTEGER PRIMARY KEY,
  at INTEGER NOT NULL
);
CREATE INDEX moments_at ON moments (at, n);

-- Rows still valid. An open row is alive only if every row up its parent chain is open too.
-- sort_key is the order of the name, U+0001, and the name itself.
CREATE TABLE entries_now (
  node INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  shelf INTEGER NOT NULL,
  parent INTEGER,                 -- null at the top of a shelf
  sort_key TEXT NOT NULL,
  kind INTEGER NOT NULL,          -- 0 folder, 1 file
  size INTEGER NOT NULL,
  mtime INTEGER NOT NULL,         -- the file's own time of modification
  content INTEGER,
  since INTEGER NOT NULL,
  at INTEGER NOT NULL,            -- when since was
  how INTEGER NOT NULL,
  account INTEGER,
  device INTEGER
);
CREATE UNIQUE INDEX entries_now_name ON entries_now (parent, sort_key);
CREATE INDEX entries_now_folders ON entries_now (parent, sort_key) WHERE kind = 0;
CREATE INDEX entries_now_since ON entries_now (shelf, since);

-- Rows no longer valid: from since up to, not including, until.
CREATE TABLE entries_past (
  id INTEGER PRIMARY KEY,
  node INTEGER NOT NULL,
  org INTEGER NOT NULL,
  shelf INTEGER NOT NULL,
  parent INTEGER,
  sort_key TEXT NOT NULL,
  kind INTEGER NOT NULL,
  size INTEGER NOT NULL,
  mtime INTEGER NOT NULL,
  content INTEGER,
  since INTEGER NOT NULL,
  until INTEGER NOT NULL,
  fork INTEGER NOT NULL,          -- core::interval
  at INTEGER NOT NULL,
  how INTEGER NOT NULL,
  account INTEGER,
  device INTEGER,
  ended_at INTEGER NOT NULL,
  ended_how INTEGER NOT NULL,
  ended_account INTEGER,
  ended_device INTEGER
);
CREATE INDEX entries_past_from ON entries_past (parent, fork, since);
CREATE INDEX entries_past_to ON entries_past (parent, fork, until);
CREATE INDEX entries_past_node ON entries_past (node, until);
CREATE INDEX entries_past_shelf ON entries_past (shelf, until);
CREATE INDEX entries_past_content ON entries_past (content) WHERE content IS NOT NULL;

-- Bytes. A live content lies at its node's place, or in staging while its mark is not placed.
CREATE TABLE contents (
  id INTEGER PRIMARY KEY,         -- also its name in staging and in past/incoming
  org INTEGER NOT NULL,
  hash BLOB NOT NULL,
  size INTEGER NOT NULL,
  state INTEGER NOT NULL,         -- 0 live, 1 past, 2 lost
  ino INTEGER NOT NULL,
  btime INTEGER NOT NULL,
  mark INTEGER NOT NULL
);
CREATE INDEX contents_past ON contents (hash) WHERE state = 1;

-- What is kept of a folder beside its entries: where it lies, and what is beneath it now.
CREATE TABLE folders (
  node INTEGER PRIMARY KEY,
  lies INTEGER NOT NULL,          -- 0 at its place, 1 in past/removed, 2 taken apart
  ino INTEGER NOT NULL,
  btime INTEGER NOT NULL,
  bytes INTEGER NOT NULL,
  files INTEGER NOT NULL,
  folders INTEGER NOT NULL,
  past_bytes INTEGER NOT NULL,
  past_files INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
);

-- Changes beneath a folder, per day since 1970: the time strip.
CREATE TABLE activity (
  node INTEGER NOT NULL,
  day INTEGER NOT NULL,
  changes INTEGER NOT NULL,
  PRIMARY KEY (node, day)
) WITHOUT ROWID;

-- What the disk still owes the catalogue, in order.
CREATE TABLE marks (
  id INTEGER PRIMARY KEY,
  task TEXT NOT NULL
);

-- Work that goes on in steps and survives a restart.
CREATE TABLE jobs (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  kind TEXT NOT NULL,
  node INTEGER NOT NULL,
  moment INTEGER NOT NULL,
  due INTEGER NOT NULL,
  done INTEGER NOT NULL DEFAULT 0
);

-- What was found on the disk that somebody should know of.
CREATE TABLE findings (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  at INTEGER NOT NULL,
  kind TEXT NOT NULL,
  node INTEGER,
  detail TEXT NOT NULL
);

-- The record of everything done. fields and salt may be erased; digest and link stay.
CREATE TABLE record (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  at INTEGER NOT NULL,
  action TEXT NOT NULL,
  account INTEGER,
  node INTEGER,
  fields TEXT,                    -- JSON array of texts: action, who, device, from, what, detail
  salt BLOB,
  digest BLOB NOT NULL,
  link BLOB NOT NULL
);
CREATE INDEX record_account ON record (account, id);
