-- The key with which places in lists are sealed; made at the first start.
ALTER TABLE store ADD COLUMN cursor_key BLOB;

-- Rows of the record from version 2 on have links that cover every column, and marks by a key that moves forward each
-- day: which step of it, and the mark.
ALTER TABLE record ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE record ADD COLUMN key INTEGER;
ALTER TABLE record ADD COLUMN mac BLOB;

-- From which address an upload is sent: what strangers may have under way is counted by it.
ALTER TABLE uploads ADD COLUMN sent_from TEXT NOT NULL DEFAULT '';
