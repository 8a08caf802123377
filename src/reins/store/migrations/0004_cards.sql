BEGIN;
ALTER TABLE sessions ADD COLUMN card TEXT;
PRAGMA user_version = 4;
COMMIT;
