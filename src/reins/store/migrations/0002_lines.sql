BEGIN;
ALTER TABLE steps ADD COLUMN parent INTEGER NOT NULL DEFAULT 0;
UPDATE steps SET parent = number - 1;
ALTER TABLE sessions ADD COLUMN tip INTEGER NOT NULL DEFAULT 0;
UPDATE sessions SET tip = coalesce((SELECT max(number) FROM steps WHERE session_id = sessions.id), 0);
CREATE TABLE points (
  id TEXT PRIMARY KEY,
  type TEXT NOT NULL,
  name TEXT NOT NULL,
  settings TEXT NOT NULL,
  UNIQUE (type, name)
) STRICT;
PRAGMA user_version = 2;
COMMIT;
