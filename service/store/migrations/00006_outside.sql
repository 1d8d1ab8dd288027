-- +goose Up
-- What was found changed on a device and was not made by this service.
CREATE TABLE outside_changes (
  id         INTEGER PRIMARY KEY,
  device     INTEGER NOT NULL REFERENCES devices (id),
  revision   INTEGER NOT NULL, -- the device's, that it made
  before     INTEGER NOT NULL, -- the device's revision before it
  found_at   TEXT NOT NULL,
  since      TEXT NOT NULL,    -- the device was last seen to be as before
  device_at  TEXT NOT NULL,    -- when it was, by the device's clock; '' where it does not tell
  clock_off  INTEGER NOT NULL, -- that clock is wrong
  account    TEXT NOT NULL,    -- on the device; '' where it names nobody
  session    TEXT NOT NULL,
  address    TEXT NOT NULL,
  who        TEXT NOT NULL,    -- in words
  told       TEXT NOT NULL,    -- JSON: what the device told of it
  places     INTEGER NOT NULL,
  during     INTEGER NOT NULL, -- the change that was on hold there; 0 for none
  state      TEXT NOT NULL,    -- open, adopted, pushed-back, silenced
  decided_by TEXT NOT NULL DEFAULT '',
  decided_at TEXT NOT NULL DEFAULT '',
  note       TEXT NOT NULL DEFAULT '',
  change     INTEGER NOT NULL DEFAULT 0, -- that pushes it back, or was opened from it
  UNIQUE (device, revision)
) STRICT;
CREATE INDEX outside_changes_open ON outside_changes (state) WHERE state = 'open';
-- Those of the last days that an earlier release found wait to be decided too.
INSERT INTO outside_changes (device, revision, before, found_at, since, device_at, clock_off, account, session, address, who, told, places, during, state)
  SELECT r.device, r.number, r.number - 1, r.at, p.at, '', 0, '', '', '', 'not named: an earlier release of this service found it, and listened to nothing', '[]', 0, 0,
    CASE WHEN r.at > strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-7 days') THEN 'open' ELSE 'adopted' END
  FROM revisions r JOIN revisions p ON p.device = r.device AND p.number = r.number - 1 WHERE r.source = 'outside';

-- Paths that move by themselves.
CREATE TABLE silences (
  id     INTEGER PRIMARY KEY,
  device INTEGER REFERENCES devices (id), -- none: every device
  path   TEXT NOT NULL,                   -- without module names
  note   TEXT NOT NULL,
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL
) STRICT;
