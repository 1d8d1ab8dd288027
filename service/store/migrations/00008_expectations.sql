-- +goose Up
-- What traffic a change is meant to permit or deny, and where.
CREATE TABLE expectations (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  change INTEGER NOT NULL REFERENCES changes (number),
  line   TEXT NOT NULL,
  place  TEXT NOT NULL, -- DEVICE or DEVICE/FILTER, several with commas; '' is every filter it touches
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL
) STRICT;
CREATE INDEX expectations_change ON expectations (change);

-- Side effects that a person accepted, as they were then.
CREATE TABLE accepted_effects (
  change INTEGER NOT NULL REFERENCES changes (number),
  device TEXT NOT NULL,
  filter TEXT NOT NULL,
  digest TEXT NOT NULL,
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  PRIMARY KEY (change, device, filter)
) STRICT;
