BEGIN;
ALTER TABLE takes ADD COLUMN sha256 TEXT;
ALTER TABLE sessions ADD COLUMN deleted_at TEXT;
CREATE TABLE house (id TEXT NOT NULL) STRICT;
INSERT INTO house (id) VALUES (lower(hex(randomblob(8))));
PRAGMA user_version = 3;
COMMIT;
