-- +goose Up
-- How a device's management is seen from the network (the lockout forecast):
-- its address and ours as packets have them there, '' where they are what we
-- connect with; and the devices that pass on what goes to it, '' where that is
-- to be learned.
ALTER TABLE devices ADD COLUMN seen_as TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN seen_from TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN via TEXT NOT NULL DEFAULT '';
-- Our address as the device itself told it last (RFC 6022, source-host).
ALTER TABLE devices ADD COLUMN told_from TEXT NOT NULL DEFAULT '';
-- Where a commit on hold moves its management to; '' where none does.
ALTER TABLE devices ADD COLUMN moving_to TEXT NOT NULL DEFAULT '';

-- Where a part moves its device's management to, and that as packets have it.
ALTER TABLE parts ADD COLUMN moves_to TEXT NOT NULL DEFAULT '';
ALTER TABLE parts ADD COLUMN moves_seen_as TEXT NOT NULL DEFAULT '';

CREATE TABLE edits_new (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  change INTEGER NOT NULL,
  device INTEGER NOT NULL,
  op     TEXT NOT NULL CHECK (op IN ('put', 'delete', 'move', 'load')),
  path   TEXT NOT NULL,
  value  TEXT NOT NULL DEFAULT '',
  mode   TEXT NOT NULL DEFAULT '', -- of a put or load: how
  source TEXT NOT NULL DEFAULT '', -- of a load: what from
  lines  INTEGER NOT NULL DEFAULT 1,
  body   BLOB,                     -- of a load: the edits, a <config> of RFC 6241 section 7.2
  times  INTEGER NOT NULL DEFAULT 0, -- that something was taken out of it
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  FOREIGN KEY (change, device) REFERENCES parts (change, device)
) STRICT;
INSERT INTO edits_new (id, change, device, op, path, value, actor, at) SELECT id, change, device, op, path, value, actor, at FROM edits;
DROP TABLE edits;
ALTER TABLE edits_new RENAME TO edits;
CREATE INDEX edits_change ON edits (change);

-- Who works on a change beside its author.
CREATE TABLE company (
  change   INTEGER NOT NULL REFERENCES changes (number),
  account  TEXT NOT NULL REFERENCES accounts (name),
  added_by TEXT NOT NULL,
  added_at TEXT NOT NULL,
  PRIMARY KEY (change, account)
) STRICT;

CREATE TABLE notes (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  change INTEGER NOT NULL REFERENCES changes (number),
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  text   TEXT NOT NULL
) STRICT;
CREATE INDEX notes_change ON notes (change);

-- What people decided where a change and its device both changed the same.
CREATE TABLE decisions (
  change INTEGER NOT NULL REFERENCES changes (number),
  device INTEGER NOT NULL REFERENCES devices (id),
  path   TEXT NOT NULL,
  keep   TEXT NOT NULL CHECK (keep IN ('mine', 'theirs')),
  base   TEXT NOT NULL, -- the three values as they were shown
  mine   TEXT NOT NULL,
  theirs TEXT NOT NULL,
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  PRIMARY KEY (change, device, path)
) STRICT;

-- What a preview showed: what it rested on, device by device (JSON).
CREATE TABLE previews (
  change INTEGER NOT NULL REFERENCES changes (number),
  actor  TEXT NOT NULL,
  digest TEXT NOT NULL,
  at     TEXT NOT NULL,
  parts  TEXT NOT NULL,
  PRIMARY KEY (change, actor, digest)
) STRICT;

CREATE TABLE reservations (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  device   INTEGER NOT NULL REFERENCES devices (id),
  holder   TEXT NOT NULL REFERENCES accounts (name),
  reason   TEXT NOT NULL,
  made_at  TEXT NOT NULL,
  until    TEXT NOT NULL,
  ended_at TEXT NOT NULL DEFAULT '',
  ended_by TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX reservations_device ON reservations (device, ended_at);

CREATE TABLE asks (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  reservation INTEGER NOT NULL REFERENCES reservations (id),
  actor       TEXT NOT NULL,
  at          TEXT NOT NULL,
  text        TEXT NOT NULL
) STRICT;
CREATE INDEX asks_reservation ON asks (reservation);

CREATE TABLE stencils (
  name    TEXT NOT NULL,
  version INTEGER NOT NULL,
  text    TEXT NOT NULL, -- '' once retired
  note    TEXT NOT NULL,
  actor   TEXT NOT NULL,
  at      TEXT NOT NULL,
  PRIMARY KEY (name, version)
) STRICT;

CREATE TABLE shared_values (
  name    TEXT NOT NULL,
  version INTEGER NOT NULL,
  items   TEXT NOT NULL, -- JSON list
  note    TEXT NOT NULL,
  actor   TEXT NOT NULL,
  at      TEXT NOT NULL,
  PRIMARY KEY (name, version)
) STRICT;

-- What a stencil set on a device, change by change: a kept change's is what it
-- set last.
CREATE TABLE bindings (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  stencil TEXT NOT NULL,
  device  INTEGER NOT NULL REFERENCES devices (id),
  change  INTEGER NOT NULL REFERENCES changes (number),
  edit    INTEGER NOT NULL, -- the edit that staged it
  version INTEGER NOT NULL,
  blanks  TEXT NOT NULL,  -- JSON: the values given
  filled  BLOB,           -- XML of what it sets; NULL where it was taken off
  actor   TEXT NOT NULL,
  at      TEXT NOT NULL
) STRICT;
CREATE INDEX bindings_stencil ON bindings (stencil, device);
CREATE INDEX bindings_change ON bindings (change);
