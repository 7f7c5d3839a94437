-- Uploads whose sender tells later how long they are: until then their size is the most they may be.
ALTER TABLE uploads ADD COLUMN open_length INTEGER NOT NULL DEFAULT 0;
