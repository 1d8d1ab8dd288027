-- +goose Up
-- Acts of administration that wait until others agree to them, where a rule asks for that.
CREATE TABLE proposals (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  kind   TEXT NOT NULL,
  body   TEXT NOT NULL, -- JSON
  says   TEXT NOT NULL, -- to people
  actor  TEXT NOT NULL,
  at     TEXT NOT NULL,
  ended  TEXT NOT NULL DEFAULT '', -- when it was done or taken back
  became TEXT NOT NULL DEFAULT ''  -- done or dropped
) STRICT;
CREATE TABLE proposal_agreements (
  proposal INTEGER NOT NULL REFERENCES proposals (id),
  account  TEXT NOT NULL,
  at       TEXT NOT NULL,
  PRIMARY KEY (proposal, account)
) STRICT, WITHOUT ROWID;
