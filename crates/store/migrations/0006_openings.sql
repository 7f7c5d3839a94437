-- Addresses that open something to strangers: links give out, intakes take in.
CREATE TABLE openings (
  id INTEGER PRIMARY KEY AUTOINCREMENT, -- never given twice: what strangers did is told by it
  org INTEGER NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('link', 'intake')),
  ending TEXT NOT NULL UNIQUE,          -- the end of its address; in no log and no record
  node INTEGER NOT NULL,
  can TEXT NOT NULL,
  title TEXT NOT NULL,
  message TEXT NOT NULL,
  password TEXT NOT NULL,               -- argon2id; empty: none
  begins_at INTEGER,
  ends_at INTEGER,
  most INTEGER,                         -- downloads or deliveries; null: not counted
  used INTEGER NOT NULL DEFAULT 0,
  paused INTEGER NOT NULL DEFAULT 0,
  asleep INTEGER NOT NULL DEFAULT 0,    -- the target was brought back: to be confirmed
  ended_at INTEGER,
  largest_file INTEGER,
  largest_all INTEGER,                  -- of one delivery
  kinds TEXT NOT NULL DEFAULT '',
  asks_mail INTEGER NOT NULL DEFAULT 0,
  made_by INTEGER NOT NULL REFERENCES accounts,
  made_at INTEGER NOT NULL,
  used_at INTEGER,
  used_from TEXT,
  guessed_at INTEGER                    -- when too many passwords were tried last
);
CREATE INDEX openings_node ON openings (node);
CREATE INDEX openings_by ON openings (made_by, id);

-- A download that was counted: good for ranges for a day, given back if no byte left.
CREATE TABLE slips (
  secret BLOB PRIMARY KEY,              -- hashed
  opening INTEGER NOT NULL REFERENCES openings,
  node INTEGER NOT NULL,
  moment INTEGER,                       -- of an archive
  made_at INTEGER NOT NULL,
  begun_at INTEGER                      -- when its first byte left
) WITHOUT ROWID;
CREATE INDEX slips_made ON slips (made_at);

-- What somebody handed in, in one go.
CREATE TABLE deliveries (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  org INTEGER NOT NULL,
  opening INTEGER NOT NULL REFERENCES openings,
  secret BLOB NOT NULL UNIQUE,          -- hashed
  sender TEXT NOT NULL,
  mail TEXT,
  came_from TEXT NOT NULL,
  folder INTEGER,                       -- made with the first file
  begun_at INTEGER NOT NULL,
  moved_at INTEGER NOT NULL,            -- the last sign of life
  done_at INTEGER,
  broken INTEGER NOT NULL DEFAULT 0,    -- nobody went on with it
  told_at INTEGER
);
CREATE INDEX deliveries_of ON deliveries (opening, id);
CREATE INDEX deliveries_open ON deliveries (moved_at) WHERE done_at IS NULL;
CREATE INDEX deliveries_untold ON deliveries (done_at) WHERE told_at IS NULL AND done_at IS NOT NULL;

CREATE TABLE delivered (
  delivery INTEGER NOT NULL REFERENCES deliveries,
  node INTEGER NOT NULL,
  path TEXT NOT NULL,                   -- as the sender named it
  size INTEGER NOT NULL,
  hash BLOB NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (delivery, node)
) WITHOUT ROWID;

ALTER TABLE uploads ADD COLUMN opening INTEGER;  -- whose stranger sends it
ALTER TABLE uploads ADD COLUMN delivery INTEGER; -- as a part of this
ALTER TABLE uploads ADD COLUMN way TEXT NOT NULL DEFAULT ''; -- the folders on the way to it within that

-- In the very transaction that puts a file it enters the receipt.
CREATE TRIGGER upload_delivered AFTER UPDATE OF node ON uploads
WHEN NEW.delivery IS NOT NULL AND NEW.node IS NOT NULL AND OLD.node IS NULL
BEGIN
  INSERT OR REPLACE INTO delivered (delivery, node, path, size, hash, at)
  SELECT NEW.delivery, NEW.node, NEW.way || NEW.name, e.size, c.hash, e.at
  FROM entries_now e JOIN contents c ON c.id = e.content WHERE e.node = NEW.node;
  UPDATE deliveries SET moved_at = (SELECT max(at) FROM moments) WHERE id = NEW.delivery;
END;
