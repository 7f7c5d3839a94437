-- Groups, and grants on any node to an account, a group, or everybody in the organisation.
CREATE TABLE groups (
  id INTEGER PRIMARY KEY,
  org INTEGER NOT NULL REFERENCES organisations,
  name TEXT NOT NULL,
  name_key TEXT NOT NULL,         -- folded: two names that look alike are one
  note TEXT NOT NULL DEFAULT '',
  made_at INTEGER NOT NULL,
  UNIQUE (org, name_key)
);

CREATE TABLE members (
  grp INTEGER NOT NULL REFERENCES groups,
  account INTEGER NOT NULL REFERENCES accounts,
  PRIMARY KEY (grp, account)
) WITHOUT ROWID;
CREATE INDEX members_of ON members (account);

ALTER TABLE grants ADD COLUMN grp INTEGER;            -- account and grp null: everybody
ALTER TABLE grants ADD COLUMN until INTEGER;          -- counts no more from then on
ALTER TABLE grants ADD COLUMN message TEXT NOT NULL DEFAULT '';
ALTER TABLE grants ADD COLUMN made_by INTEGER;
ALTER TABLE grants ADD COLUMN made_at INTEGER NOT NULL DEFAULT 0;

-- One grant for each subject on a node; of several the last one counts.
DELETE FROM grants WHERE id NOT IN (SELECT max(id) FROM grants GROUP BY node, account, grp);
CREATE UNIQUE INDEX grants_one ON grants (node, coalesce(account, 0), coalesce(grp, 0));

-- Nodes beyond which levels given further up do not reach.
CREATE TABLE afresh (
  node INTEGER PRIMARY KEY,
  org INTEGER NOT NULL
);

ALTER TABLE accounts ADD COLUMN mail TEXT;
ALTER TABLE accounts ADD COLUMN disabled_at INTEGER;
CREATE UNIQUE INDEX accounts_mail ON accounts (lower(mail)) WHERE mail IS NOT NULL;
