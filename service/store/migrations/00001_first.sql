-- +goose Up
CREATE TABLE accounts (
  name       TEXT PRIMARY KEY,
  hash       TEXT NOT NULL,
  role       TEXT NOT NULL CHECK (role IN ('admin', 'operator', 'viewer')),
  created_at TEXT NOT NULL
) STRICT;

-- A token is kept by its hash alone.
CREATE TABLE tokens (
  hash       TEXT PRIMARY KEY,
  account    TEXT NOT NULL REFERENCES accounts (name),
  created_at TEXT NOT NULL,
  expires_at TEXT NOT NULL
) STRICT;

CREATE TABLE module_sets (
  digest  TEXT PRIMARY KEY,
  sources BLOB NOT NULL
) STRICT;

CREATE TABLE devices (
  id           INTEGER PRIMARY KEY,
  name         TEXT NOT NULL UNIQUE,
  address      TEXT NOT NULL,
  account      TEXT NOT NULL,
  auth         TEXT NOT NULL CHECK (auth IN ('password', 'key')),
  secret       BLOB NOT NULL,
  host_key     TEXT NOT NULL DEFAULT '',
  site         TEXT NOT NULL DEFAULT '',
  role         TEXT NOT NULL DEFAULT '',
  added_at     TEXT NOT NULL,
  added_by     TEXT NOT NULL,
  module_list  TEXT NOT NULL DEFAULT '',
  module_set   TEXT REFERENCES module_sets (digest),
  capabilities TEXT NOT NULL DEFAULT '[]',
  seen_at      TEXT NOT NULL DEFAULT '',
  trouble      TEXT NOT NULL DEFAULT '',
  unsaved      INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE configs (
  digest TEXT PRIMARY KEY,
  body   BLOB NOT NULL
) STRICT;

CREATE TABLE changes (
  number     INTEGER PRIMARY KEY AUTOINCREMENT,
  title      TEXT NOT NULL,
  ticket     TEXT NOT NULL DEFAULT '',
  author     TEXT NOT NULL REFERENCES accounts (name),
  state      TEXT NOT NULL CHECK (state IN ('draft', 'scheduled', 'applying', 'holding', 'kept', 'reverted', 'failed', 'dropped')),
  reason     TEXT NOT NULL DEFAULT '',
  opened_at  TEXT NOT NULL,
  updated_at TEXT NOT NULL
) STRICT;

CREATE TABLE revisions (
  device    INTEGER NOT NULL REFERENCES devices (id),
  number    INTEGER NOT NULL,
  digest    TEXT NOT NULL REFERENCES configs (digest),
  at        TEXT NOT NULL,
  source    TEXT NOT NULL CHECK (source IN ('first', 'change', 'outside')),
  change    INTEGER REFERENCES changes (number),
  PRIMARY KEY (device, number)
) STRICT;

CREATE TABLE parts (
  change INTEGER NOT NULL REFERENCES changes (number),
  device INTEGER NOT NULL REFERENCES devices (id),
  base   INTEGER NOT NULL,
  PRIMARY KEY (change, device),
  FOREIGN KEY (device, base) REFERENCES revisions (device, number)
) STRICT;

CREATE TABLE edits (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  change INTEGER NOT NULL,
  device INTEGER NOT NULL,
  op     TEXT NOT NULL CHECK (op IN ('put', 'delete')),
  path   TEXT NOT NULL,
  value  TEXT NOT NULL DEFAULT '',
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  FOREIGN KEY (change, device) REFERENCES parts (change, device)
) STRICT;

CREATE TABLE commits (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  change     INTEGER NOT NULL REFERENCES changes (number),
  actor      TEXT NOT NULL,
  hold       INTEGER NOT NULL, -- seconds
  started_at TEXT NOT NULL,
  ended_at   TEXT NOT NULL DEFAULT '',
  state      TEXT NOT NULL     -- the folded journal, JSON
) STRICT;
CREATE INDEX commits_open ON commits (ended_at);
CREATE INDEX commits_change ON commits (change);

CREATE TABLE commit_parts (
  commit_id INTEGER NOT NULL REFERENCES commits (id),
  place     INTEGER NOT NULL,
  device    INTEGER NOT NULL REFERENCES devices (id),
  persist   TEXT NOT NULL,
  base      TEXT REFERENCES configs (digest),
  result    TEXT REFERENCES configs (digest),
  PRIMARY KEY (commit_id, place)
) STRICT;

CREATE TABLE journal (
  commit_id INTEGER NOT NULL REFERENCES commits (id),
  seq       INTEGER NOT NULL,
  event     TEXT NOT NULL,
  PRIMARY KEY (commit_id, seq)
) STRICT;

CREATE TABLE ledger (
  seq    INTEGER PRIMARY KEY,
  at     TEXT NOT NULL,
  actor  TEXT NOT NULL,
  action TEXT NOT NULL,
  device TEXT NOT NULL,
  change INTEGER NOT NULL,
  path   TEXT NOT NULL,
  before TEXT NOT NULL,
  after  TEXT NOT NULL,
  note   TEXT NOT NULL,
  prev   TEXT NOT NULL,
  hash   TEXT NOT NULL
) STRICT;
CREATE INDEX ledger_change ON ledger (change);
CREATE INDEX ledger_device ON ledger (device);

-- +goose StatementBegin
CREATE TRIGGER ledger_no_update BEFORE UPDATE ON ledger
BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER ledger_no_delete BEFORE DELETE ON ledger
BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
-- +goose StatementEnd
