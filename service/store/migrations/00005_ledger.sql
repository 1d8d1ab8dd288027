-- +goose Up
-- What an entry is told of beside: empty for those of earlier releases, and
-- then no part of their hash.
ALTER TABLE ledger ADD COLUMN ticket  TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN outcome TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN way     TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN session TEXT NOT NULL DEFAULT '';

-- What entries are found by stands beside the ledger and is filled in behind
-- it, so that adding an entry waits for nothing but itself.
DROP INDEX ledger_change;
DROP INDEX ledger_device;
CREATE VIRTUAL TABLE ledger_words USING fts5(marks, text, content='', tokenize="unicode61 remove_diacritics 2");
CREATE TABLE ledger_kinds (
  action TEXT PRIMARY KEY
) STRICT;

-- The entries before which the clock had gone back: between two of them times
-- only grow.
CREATE TABLE ledger_back (
  seq INTEGER PRIMARY KEY
) STRICT;
INSERT INTO ledger_back SELECT seq FROM (SELECT seq, at, lag(at) OVER (ORDER BY seq) AS before FROM ledger) WHERE at < before;

-- Signed words of what the ledger was.
CREATE TABLE checkpoints (
  seq  INTEGER PRIMARY KEY,
  at   TEXT NOT NULL,
  body TEXT NOT NULL
) STRICT;

-- Lines to search by, kept under a name.
CREATE TABLE searches (
  owner  TEXT NOT NULL REFERENCES accounts (name),
  name   TEXT NOT NULL,
  line   TEXT NOT NULL,
  shared INTEGER NOT NULL,
  at     TEXT NOT NULL,
  PRIMARY KEY (owner, name)
) STRICT;
