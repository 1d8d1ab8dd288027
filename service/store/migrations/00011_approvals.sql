-- +goose Up
-- What is not committed without others' agreement.
CREATE TABLE approval_rules (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  scope     TEXT NOT NULL,    -- site=NAME and the like; '' is all devices
  path      TEXT NOT NULL,    -- where the change touches it or below; '' is anywhere
  needed    INTEGER NOT NULL, -- persons
  emergency INTEGER NOT NULL, -- whether a commit without them is possible, for a reason
  note      TEXT NOT NULL,
  actor     TEXT NOT NULL,
  at        TEXT NOT NULL
) STRICT;

-- Changes whose people ask others to agree: with that they are no longer private.
CREATE TABLE approval_asks (
  change INTEGER PRIMARY KEY REFERENCES changes (number),
  actor  TEXT NOT NULL,
  note   TEXT NOT NULL,
  at     TEXT NOT NULL
) STRICT;

-- Who agreed, and to which preview.
CREATE TABLE approvals (
  change INTEGER NOT NULL REFERENCES changes (number),
  actor  TEXT NOT NULL,
  digest TEXT NOT NULL,
  note   TEXT NOT NULL,
  at     TEXT NOT NULL,
  PRIMARY KEY (change, actor)
) STRICT;

-- Commits without the agreement that was needed, until somebody looked at them.
CREATE TABLE emergencies (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  change      INTEGER NOT NULL REFERENCES changes (number),
  actor       TEXT NOT NULL,
  reason      TEXT NOT NULL,
  digest      TEXT NOT NULL,
  at          TEXT NOT NULL,
  reviewed_by TEXT NOT NULL DEFAULT '',
  reviewed_at TEXT NOT NULL DEFAULT '',
  review      TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX emergencies_open ON emergencies (reviewed_at);
