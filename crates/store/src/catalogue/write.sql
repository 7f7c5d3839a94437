-- `jsonb_each` hands each row on as it was parsed: with `json_each` every row would be written out as text, and
-- parsed again for each of its columns, which took half of the time of a group.
INSERT INTO moments (n, at) SELECT value->>0, value->>1 FROM jsonb_each(?);
INSERT INTO contents (id, org, hash, size, state, ino, btime, mark, noise)
  SELECT value->>0, 1, unhex(value->>1), value->>2, value->>3, value->>4, value->>5, value->>6, value->>7
    FROM jsonb_each(?);
UPDATE contents SET state = j.value->>3, ino = j.value->>4, btime = j.value->>5, mark = j.value->>6
  FROM jsonb_each(?) j WHERE contents.id = j.value->>0;
-- Ended rows leave before others take their names.
DELETE FROM entries_now WHERE node IN (SELECT value FROM jsonb_each(?));
INSERT INTO entries_now
    (node, org, shelf, parent, sort_key, kind, size, mtime, content, since, at, how, account, device, executable)
  SELECT value->>0, 1, value->>1, value->>2, value->>3, value->>4, value->>5, value->>6, value->>7, value->>8,
    value->>9, value->>10, value->>11, value->>12, value->>13 FROM jsonb_each(?);
INSERT INTO entries_past
    (node, org, shelf, parent, sort_key, kind, size, mtime, content, since, at, how, account, device, executable,
     until, fork, ended_at, ended_how, ended_account, ended_device, held)
  SELECT value->>0, 1, value->>1, value->>2, value->>3, value->>4, value->>5, value->>6, value->>7, value->>8,
    value->>9, value->>10, value->>11, value->>12, value->>13, value->>14, value->>15, value->>16, value->>17,
    value->>18, value->>19, value->>20 FROM jsonb_each(?);
INSERT OR REPLACE INTO folders
    (node, lies, ino, btime, bytes, files, folders, past_bytes, past_files, changed_at, trash_bytes, trash_files)
  SELECT value->>0, value->>1, value->>2, value->>3, value->>4, value->>5, value->>6, value->>7, value->>8,
    value->>9, value->>10, value->>11 FROM jsonb_each(?);
INSERT INTO activity (node, day, changes) SELECT value->>0, value->>1, value->>2 FROM jsonb_each(?) WHERE true
  ON CONFLICT DO UPDATE SET changes = changes + excluded.changes;
INSERT INTO marks (id, task) SELECT value->>0, value->>1 FROM jsonb_each(?);
INSERT INTO record (id, org, at, action, account, node, fields, salt, digest, link, version, key, mac)
  SELECT value->>0, 1, value->>1, value->>2, value->>3, value->>4, value->>5, unhex(value->>6), unhex(value->>7),
    unhex(value->>8), 2, value->>9, unhex(value->>10) FROM jsonb_each(?);
INSERT INTO jobs (org, kind, node, moment, due)
  SELECT 1, value->>0, value->>1, value->>2, value->>3 FROM jsonb_each(?);
INSERT INTO findings (org, at, kind, node, detail)
  SELECT 1, value->>0, value->>1, value->>2, value->>3 FROM jsonb_each(?);
INSERT OR IGNORE INTO requests (account, id, node, moment, made, at)
  SELECT value->>0, unhex(value->>1), value->>2, value->>3, value->>4, value->>5 FROM jsonb_each(?);
UPDATE uploads SET node = j.value->>1 FROM jsonb_each(?) j WHERE uploads.id = j.value->>0;
DELETE FROM locks WHERE token IN (SELECT value FROM jsonb_each(?));
DELETE FROM marks WHERE id <= ? AND id NOT IN (SELECT value FROM jsonb_each(?));
UPDATE heads SET moment = ?, at = ?, node = ?, mark = ?, placed = ?, record = ?, link = ?, commits = ?, content = ? WHERE id = 1;
