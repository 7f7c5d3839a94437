-- Uploads that arrive in parts. The bytes lie in staging under the content's name until the
-- file is put; then node is set, in the same transaction, and the row stays until it expires, so
-- that a sender who did not hear the answer still learns it.
CREATE TABLE uploads (
  id TEXT PRIMARY KEY,            -- 128 random bits: the end of its address
  org INTEGER NOT NULL,
  account INTEGER NOT NULL,
  content INTEGER NOT NULL,
  parent INTEGER NOT NULL,
  name TEXT NOT NULL,
  size INTEGER NOT NULL,
  mtime INTEGER,
  if_match TEXT,                  -- conditions as they were sent, checked when the file is put
  if_none_match TEXT,
  hash BLOB,                      -- what the sender says the whole will be
  made_at INTEGER NOT NULL,
  expires_at INTEGER NOT NULL,
  node INTEGER
) WITHOUT ROWID;
CREATE INDEX uploads_account ON uploads (account, made_at);
CREATE INDEX uploads_expire ON uploads (expires_at);

-- When and from where a device was last used; written now and then.
ALTER TABLE devices ADD COLUMN used_at INTEGER;
ALTER TABLE devices ADD COLUMN used_from TEXT;
