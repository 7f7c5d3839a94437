-- Work that somebody or a schedule asked for, and what became of it.
CREATE TABLE work (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  org INTEGER NOT NULL,
  kind TEXT NOT NULL,
  by TEXT NOT NULL,               -- who asked, in words
  what TEXT NOT NULL,             -- what was asked, in words
  state TEXT NOT NULL,            -- runs, done, failed, stopped, cut off
  said TEXT NOT NULL DEFAULT '',
  report TEXT NOT NULL DEFAULT '',-- JSON
  begun_at INTEGER NOT NULL,
  ended_at INTEGER
);
CREATE INDEX work_of_kind ON work (kind, id);
