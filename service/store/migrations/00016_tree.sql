-- +goose Up
-- The hashes of the ledger's Merkle tree, 256 side by side: filled in behind the entries.
CREATE TABLE tree (
  level  INTEGER NOT NULL,
  n      INTEGER NOT NULL,
  hashes BLOB NOT NULL,
  PRIMARY KEY (level, n)
) STRICT, WITHOUT ROWID;

-- Checkpoints of that tree, with the signatures of witnesses; those in checkpoints are of
-- earlier releases.
CREATE TABLE signed_trees (
  origin TEXT NOT NULL,
  size   INTEGER NOT NULL,
  at     TEXT NOT NULL,
  note   TEXT NOT NULL,
  PRIMARY KEY (origin, size)
) STRICT, WITHOUT ROWID;
