-- The key with which places in lists are sealed; made at the first start.
ALTER TABLE store ADD COLUMN cursor_key BLOB;
