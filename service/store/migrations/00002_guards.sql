-- +goose Up
-- How a commit was planned (JSON): its guards, waves and probes.
ALTER TABLE commits ADD COLUMN plan TEXT NOT NULL DEFAULT '';

-- Whether what is kept on a device is saved to its startup, unless said otherwise.
ALTER TABLE devices ADD COLUMN save INTEGER NOT NULL DEFAULT 1;

-- What the device's clock was ahead of ours when it was last read; NULL where
-- it was not, or does not tell.
ALTER TABLE devices ADD COLUMN clock_ahead_ms INTEGER;
ALTER TABLE devices ADD COLUMN clock_read_at TEXT NOT NULL DEFAULT '';

-- What is to be done at a time: a commit, or a restart of a device.
CREATE TABLE schedule (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  kind     TEXT NOT NULL CHECK (kind IN ('commit', 'restart')),
  change   INTEGER REFERENCES changes (number),
  device   INTEGER REFERENCES devices (id),
  at       TEXT NOT NULL,
  zone     TEXT NOT NULL,
  lateness INTEGER NOT NULL, -- seconds
  orders   TEXT NOT NULL DEFAULT '', -- of a commit, JSON
  actor    TEXT NOT NULL,
  made_at  TEXT NOT NULL,
  state    TEXT NOT NULL CHECK (state IN ('waiting', 'begun', 'missed', 'stopped', 'cancelled')),
  note     TEXT NOT NULL DEFAULT '',
  ended_at TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX schedule_state ON schedule (state);

-- Devices that announce the same modules share them.
CREATE INDEX devices_modules ON devices (module_list);
