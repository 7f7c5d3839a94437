-- Which key seals the secrets that must be read again (it lies in a file of its own); none before the first start.
ALTER TABLE store ADD COLUMN secrets_key TEXT;

-- Whether the secret of a factor is sealed.
ALTER TABLE factors ADD COLUMN sealed INTEGER NOT NULL DEFAULT 0;

-- When somebody last did something in a browser, as far as it is written.
ALTER TABLE sessions ADD COLUMN used_at INTEGER;
