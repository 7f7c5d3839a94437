-- Which store this is, the same as in the file `store` beside the catalogue: a catalogue that belongs to other data,
-- or is older than what lies beside it, is noticed before anything is swept. `doubt`: how far the newest catalogue
-- was that this store is known to have had, if this one is older; 0 if it is the newest.
CREATE TABLE store (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  identity TEXT NOT NULL,
  epoch INTEGER NOT NULL,
  doubt INTEGER NOT NULL DEFAULT 0
);

-- The last id given out for bytes in staging: none of them is ever given out again.
ALTER TABLE heads ADD COLUMN content INTEGER NOT NULL DEFAULT 0;

-- How many bytes of an upload in parts are on the disk for certain; -1: it began before this was noted. After a power
-- cut a file can be longer than that, with zeros at its end.
ALTER TABLE uploads ADD COLUMN synced INTEGER NOT NULL DEFAULT 0;
UPDATE uploads SET synced = -1;

-- A finding that is over: what was missing is there again.
ALTER TABLE findings ADD COLUMN over_at INTEGER;
