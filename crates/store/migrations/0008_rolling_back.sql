-- What a rollback leaves as it is because that was asked for: ids of nodes.
ALTER TABLE rollbacks ADD COLUMN keep TEXT NOT NULL DEFAULT '[]';
