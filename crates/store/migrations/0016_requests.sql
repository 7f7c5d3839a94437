-- Requests that their senders named: a repeat gets the first answer. Kept for a week.
CREATE TABLE requests (
  account INTEGER NOT NULL,
  id BLOB NOT NULL,               -- 16 bytes, of the device and what it called the request
  node INTEGER NOT NULL,          -- what was made, changed or removed
  moment INTEGER NOT NULL,        -- the state it was answered with
  made INTEGER NOT NULL,          -- 1: a new thing; 2: removed
  at INTEGER NOT NULL,
  PRIMARY KEY (account, id)
) WITHOUT ROWID;
CREATE INDEX requests_at ON requests (at);
