-- How far a device's token reaches: the most that counts (null: all that the account may), and the folders outside of
-- which nothing is (a JSON list of their nodes; null: none but what the account may see).
ALTER TABLE devices ADD COLUMN most TEXT;
ALTER TABLE devices ADD COLUMN within TEXT;
-- What a device says of itself: the version of its program, and its pairs with their state, as JSON.
ALTER TABLE devices ADD COLUMN program TEXT;
ALTER TABLE devices ADD COLUMN pairs TEXT;
ALTER TABLE devices ADD COLUMN told_at INTEGER;
