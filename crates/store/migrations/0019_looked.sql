-- The last look at the rules about the past: up to when and which number, when all was looked at last, and by what (JSON).
CREATE TABLE looked (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  at INTEGER NOT NULL,
  moment INTEGER NOT NULL,
  whole_at INTEGER NOT NULL,
  by_what TEXT NOT NULL
);
