BEGIN;
CREATE TABLE sessions (
  id TEXT PRIMARY KEY,
  document TEXT NOT NULL,
  step INTEGER NOT NULL DEFAULT 0,
  created_at TEXT NOT NULL,
  changed_at TEXT NOT NULL
) STRICT;
CREATE TABLE takes (
  id TEXT PRIMARY KEY,
  session_id TEXT NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  channels INTEGER NOT NULL,
  sample_rate INTEGER NOT NULL,
  frames INTEGER NOT NULL
) STRICT;
CREATE INDEX takes_by_session ON takes (session_id);
CREATE TABLE steps (
  session_id TEXT NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
  number INTEGER NOT NULL,
  label TEXT NOT NULL,
  before TEXT NOT NULL,
  after TEXT NOT NULL,
  made_at TEXT NOT NULL,
  PRIMARY KEY (session_id, number)
) STRICT;
PRAGMA user_version = 1;
COMMIT;
