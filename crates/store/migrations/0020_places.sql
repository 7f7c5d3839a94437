-- Which node an object on the disk is, for whoever finds it elsewhere.
CREATE INDEX contents_object ON contents (ino) WHERE state = 0;
CREATE INDEX folders_object ON folders (ino) WHERE lies = 0;
CREATE INDEX entries_now_content ON entries_now (content) WHERE content IS NOT NULL;

-- Live contents of whose objects something was changed after they were put in their place (a mode, an owner), and whose bytes were found
-- to be the same: up to when (ctime, in milliseconds).
CREATE TABLE verified (
  content INTEGER PRIMARY KEY,
  changed INTEGER NOT NULL
);
