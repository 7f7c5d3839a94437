-- Locks that hold: see core::locks. Rows whose end has passed count no more.
CREATE TABLE locks (
  token TEXT PRIMARY KEY,
  node INTEGER NOT NULL,
  deep INTEGER NOT NULL,
  exclusive INTEGER NOT NULL,
  account INTEGER NOT NULL,
  who TEXT NOT NULL,
  by_token INTEGER NOT NULL,
  owner TEXT,
  lives_ms INTEGER NOT NULL,
  made_at INTEGER NOT NULL,
  until INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX locks_at ON locks (node);

-- Properties that programs keep with files and folders: XML, as it came. They go with the node, not with its states.
CREATE TABLE properties (
  node INTEGER NOT NULL,
  ns TEXT NOT NULL,
  name TEXT NOT NULL,
  value TEXT NOT NULL,
  PRIMARY KEY (node, ns, name)
) WITHOUT ROWID;

-- Rows that ended before this number may have been erased: whoever follows from before it reads all anew.
ALTER TABLE heads ADD COLUMN forgotten INTEGER NOT NULL DEFAULT 0;

-- How uploads are joined: '' (not at all), 'part', or 'of ' and the ids of parts.
ALTER TABLE uploads ADD COLUMN joining TEXT NOT NULL DEFAULT '';
