-- What is kept of the past, and what counts.

-- 0: was here; its bytes are no longer held.
ALTER TABLE entries_past ADD COLUMN held INTEGER NOT NULL DEFAULT 1;
-- The trash of a shelf, newest first.
CREATE INDEX entries_past_removed ON entries_past (shelf, ended_at) WHERE ended_how = 7;

-- How much like noise the bytes look, in hundredths of a bit per byte (core::mass); null: not known.
ALTER TABLE contents ADD COLUMN noise INTEGER;
-- Past contents that are worth being kept as chunks.
CREATE INDEX contents_large ON contents (id) WHERE state = 1 AND size >= 1048576;

-- Of past_bytes and past_files: those of things that were removed.
ALTER TABLE folders ADD COLUMN trash_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE folders ADD COLUMN trash_files INTEGER NOT NULL DEFAULT 0;

-- Chunks of large past contents, in files past/packs/<id>.
CREATE TABLE packs (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  bytes INTEGER NOT NULL          -- of the file
);
CREATE TABLE chunks (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,           -- chunks are shared within one organisation only
  hash BLOB NOT NULL,             -- BLAKE3 of the chunk
  pack INTEGER NOT NULL REFERENCES packs,
  at INTEGER NOT NULL,            -- where it begins in the pack's file
  stored INTEGER NOT NULL,        -- bytes there; fewer than size if it is compressed
  size INTEGER NOT NULL
);
CREATE UNIQUE INDEX chunks_hash ON chunks (org, hash);
CREATE INDEX chunks_pack ON chunks (pack);
CREATE TABLE packed (
  org INTEGER NOT NULL,
  hash BLOB NOT NULL,             -- BLAKE3 of the content
  size INTEGER NOT NULL,
  recipe BLOB NOT NULL,           -- core::chunking
  PRIMARY KEY (org, hash)
) WITHOUT ROWID;

-- Named numbers: the rows valid at them are kept.
CREATE TABLE snapshots (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  shelf INTEGER NOT NULL,
  moment INTEGER NOT NULL,
  at INTEGER NOT NULL,
  label TEXT NOT NULL,
  made_by INTEGER,                -- null: by a schedule
  ends_at INTEGER,                -- null: never by itself
  schedule TEXT                   -- the one that took it
);
CREATE INDEX snapshots_of ON snapshots (shelf, moment);

-- Versions that somebody gave a name, so that they stay.
CREATE TABLE named_versions (
  node INTEGER NOT NULL,
  since INTEGER NOT NULL,
  org INTEGER NOT NULL,
  label TEXT NOT NULL,
  made_by INTEGER,
  made_at INTEGER NOT NULL,
  PRIMARY KEY (node, since)
) WITHOUT ROWID;

-- Folders rolled back, or being rolled back.
CREATE TABLE rollbacks (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  shelf INTEGER NOT NULL,
  node INTEGER NOT NULL,
  goal INTEGER NOT NULL,          -- the number to which
  begun INTEGER NOT NULL,         -- the number before its first change: undoing goes back to it
  account INTEGER,
  device INTEGER,
  who TEXT NOT NULL,
  sent_from TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  state TEXT NOT NULL,            -- running, done, stopped
  ended_at INTEGER,
  steps INTEGER NOT NULL,
  done INTEGER NOT NULL DEFAULT 0,
  bytes INTEGER NOT NULL,
  bytes_done INTEGER NOT NULL DEFAULT 0,
  undoes INTEGER,                 -- the rollback that this one takes back
  left_alone TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX rollbacks_of ON rollbacks (shelf, id);

-- One device changed very much at once.
CREATE TABLE alarms (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  shelf INTEGER NOT NULL,
  account INTEGER,
  device INTEGER,
  before INTEGER NOT NULL,        -- the last number before
  from_at INTEGER NOT NULL,
  to_at INTEGER NOT NULL,
  files INTEGER NOT NULL,
  of INTEGER NOT NULL,
  ending TEXT,
  raised_at INTEGER NOT NULL,
  shut INTEGER NOT NULL DEFAULT 0,
  settled_at INTEGER,
  settled_by INTEGER
);
-- Up to which number changes were looked at.
CREATE TABLE watched (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  moment INTEGER NOT NULL
);
INSERT INTO watched SELECT 1, moment FROM heads;

-- Lines of folders and of the organisation, and soft lines of all. kind: organisation, account, shelf, folder.
CREATE TABLE quotas (
  kind TEXT NOT NULL,
  of INTEGER NOT NULL,
  org INTEGER NOT NULL,
  soft INTEGER,
  hard INTEGER,                   -- of accounts and shelves: kept with them
  PRIMARY KEY (kind, of)
) WITHOUT ROWID;
-- Crossings that people were told of; forgotten when there is room again.
CREATE TABLE crossed (
  kind TEXT NOT NULL,
  of INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (kind, of)
) WITHOUT ROWID;

-- What was held at the end of each day.
CREATE TABLE space_days (
  shelf INTEGER NOT NULL,
  day INTEGER NOT NULL,           -- since 1970
  live INTEGER NOT NULL,
  versions INTEGER NOT NULL,
  trash INTEGER NOT NULL,
  PRIMARY KEY (shelf, day)
) WITHOUT ROWID;
-- Of what is past, what only a snapshot keeps; as of the last look at the rules.
CREATE TABLE space_kept (
  shelf INTEGER PRIMARY KEY,
  snapshots INTEGER NOT NULL,
  at INTEGER NOT NULL
);
