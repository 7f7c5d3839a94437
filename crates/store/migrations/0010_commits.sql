-- How many groups were committed: when the answer to a commit was lost, this alone tells for certain whether it took
-- effect. Not every group leaves a row in the record.
ALTER TABLE heads ADD COLUMN commits INTEGER NOT NULL DEFAULT 0;
