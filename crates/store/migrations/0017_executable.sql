-- Whether a file is a program: the one bit of its mode that travels.
ALTER TABLE entries_now ADD COLUMN executable INTEGER NOT NULL DEFAULT 0;
ALTER TABLE entries_past ADD COLUMN executable INTEGER NOT NULL DEFAULT 0;
