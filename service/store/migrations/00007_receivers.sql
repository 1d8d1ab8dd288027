-- +goose Up
-- Who is told of entries of the ledger, and how.
CREATE TABLE receivers (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL UNIQUE,
  kind       TEXT NOT NULL CHECK (kind IN ('syslog', 'webhook', 'mail')),
  place      TEXT NOT NULL,           -- a URL
  line       TEXT NOT NULL,           -- what is told: a line to search by; '' is all
  settings   TEXT NOT NULL,           -- JSON, by kind
  secret     BLOB,                    -- sealed: what signs, or the password
  position   INTEGER NOT NULL,        -- the last entry that was told, or need not be
  added_at   TEXT NOT NULL,
  added_by   TEXT NOT NULL,
  retired_at TEXT NOT NULL DEFAULT '',
  told_at    TEXT NOT NULL DEFAULT '', -- the last that was taken
  told       INTEGER NOT NULL DEFAULT 0, -- entries, in all
  trouble    TEXT NOT NULL DEFAULT '',
  trouble_at TEXT NOT NULL DEFAULT ''  -- since when
) STRICT;
