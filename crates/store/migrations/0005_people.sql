-- Rules that are set: kind 0 the service, 1 the organisation, 2 a group (of: its id).
CREATE TABLE rules (
  kind INTEGER NOT NULL,
  of INTEGER NOT NULL,
  rule TEXT NOT NULL,
  value TEXT NOT NULL,
  set_at INTEGER NOT NULL,
  set_by INTEGER,
  PRIMARY KEY (kind, of, rule)
) WITHOUT ROWID;

ALTER TABLE accounts ADD COLUMN quota INTEGER;                  -- what its home may hold; null: the largest of its groups', or no line
ALTER TABLE accounts ADD COLUMN closed TEXT NOT NULL DEFAULT '';-- doors closed to it alone
ALTER TABLE accounts ADD COLUMN seen_at INTEGER;                -- the last sign-in
ALTER TABLE accounts ADD COLUMN invited_by INTEGER;             -- who invited a guest
ALTER TABLE accounts ADD COLUMN why_disabled TEXT NOT NULL DEFAULT ''; -- '', away, waiting, leaving
ALTER TABLE accounts ADD COLUMN leaves_at INTEGER;              -- when it is deleted
ALTER TABLE accounts ADD COLUMN heir INTEGER;                   -- who gets its files then; null: nobody
ALTER TABLE accounts ADD COLUMN muted TEXT NOT NULL DEFAULT ''; -- letters that it does not want
ALTER TABLE groups ADD COLUMN quota INTEGER;
ALTER TABLE shelves ADD COLUMN quota INTEGER;
ALTER TABLE shelves ADD COLUMN ended_at INTEGER;                 -- since when it is none: a folder elsewhere, or removed
ALTER TABLE shelves ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- The owners of shared shelves; a home's is its account.
CREATE TABLE shelf_owners (
  shelf INTEGER NOT NULL REFERENCES shelves,
  account INTEGER NOT NULL REFERENCES accounts,
  PRIMARY KEY (shelf, account)
) WITHOUT ROWID;
INSERT INTO shelf_owners SELECT id, owner FROM shelves WHERE kind = 'shared' AND owner IS NOT NULL;

-- Second factors: one-time codes (the secret) and passkeys (the credential as JSON).
CREATE TABLE factors (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  account INTEGER NOT NULL REFERENCES accounts,
  kind TEXT NOT NULL CHECK (kind IN ('codes', 'passkey')),
  name TEXT NOT NULL,
  secret BLOB NOT NULL,
  step INTEGER,                   -- the last step whose code was used
  made_at INTEGER NOT NULL,
  used_at INTEGER
);
CREATE INDEX factors_of ON factors (account);

CREATE TABLE recovery_codes (
  account INTEGER NOT NULL REFERENCES accounts,
  code BLOB NOT NULL,             -- BLAKE3, keyed for this use
  PRIMARY KEY (account, code)
) WITHOUT ROWID;

CREATE TABLE pictures (
  account INTEGER PRIMARY KEY REFERENCES accounts,
  bytes BLOB NOT NULL,            -- a small JPEG or PNG
  made_at INTEGER NOT NULL
);

-- Mail to be sent, and what became of it.
CREATE TABLE letters (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  kind TEXT NOT NULL,
  recipient TEXT NOT NULL,
  subject TEXT NOT NULL,
  plain TEXT NOT NULL,            -- emptied when sent: it may hold an address that counts
  rich TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  tries INTEGER NOT NULL DEFAULT 0,
  due_at INTEGER,                 -- null: sent or given up
  sent_at INTEGER,
  said TEXT NOT NULL DEFAULT ''   -- what the server said last
);
CREATE INDEX letters_due ON letters (due_at) WHERE due_at IS NOT NULL;

-- An administrator looks as somebody: a session that reads only.
ALTER TABLE sessions ADD COLUMN looks_as INTEGER REFERENCES accounts;
CREATE TABLE looks (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL,
  account INTEGER NOT NULL REFERENCES accounts,
  by INTEGER NOT NULL REFERENCES accounts,
  at INTEGER NOT NULL,
  told INTEGER NOT NULL
);
CREATE INDEX looks_of ON looks (account);
