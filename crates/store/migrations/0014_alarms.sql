-- Which alarm shut a computer out, and the door that one closed to an account that came without a computer of its own.
ALTER TABLE devices ADD COLUMN shut_by INTEGER;
ALTER TABLE alarms ADD COLUMN closed TEXT NOT NULL DEFAULT '';
