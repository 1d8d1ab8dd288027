-- +goose NO TRANSACTION
-- +goose Up

-- After a restore, how a commit ended that was under way when the backup was taken is for a
-- person to say, device by device. Only the text of the table is written anew: see 00012.
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, '''partly'', ''dropped''', '''partly'', ''unsettled'', ''dropped''') WHERE type = 'table' AND name = 'changes';
CREATE TABLE told_apart (n INTEGER) STRICT;
DROP TABLE told_apart;
PRAGMA writable_schema = RESET;

-- What was said of its devices.
CREATE TABLE settled (
  commit_id INTEGER NOT NULL REFERENCES commits (id),
  device    INTEGER NOT NULL REFERENCES devices (id),
  standing  TEXT NOT NULL CHECK (standing IN ('kept', 'reverted', 'left')),
  note      TEXT NOT NULL DEFAULT '',
  actor     TEXT NOT NULL,
  at        TEXT NOT NULL,
  PRIMARY KEY (commit_id, device)
) STRICT;

-- +goose Down
