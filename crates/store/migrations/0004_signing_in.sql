-- Addresses that let somebody choose a password, once.
CREATE TABLE invitations (
  token BLOB PRIMARY KEY,         -- BLAKE3 of the secret in the address
  org INTEGER NOT NULL,
  account INTEGER NOT NULL REFERENCES accounts,
  made_by INTEGER,
  made_at INTEGER NOT NULL,
  expires_at INTEGER NOT NULL,
  used_at INTEGER
) WITHOUT ROWID;
CREATE INDEX invitations_of ON invitations (account);

-- Where a session was opened, so that its owner recognises it.
ALTER TABLE sessions ADD COLUMN opened_from TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN agent TEXT NOT NULL DEFAULT '';
CREATE INDEX sessions_of ON sessions (account);
