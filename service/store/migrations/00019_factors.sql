-- +goose Up
-- Second factors of accounts: what people show beside their password.
CREATE TABLE factors (
  id      TEXT PRIMARY KEY,
  account TEXT NOT NULL REFERENCES accounts (name),
  kind    TEXT NOT NULL, -- code or passkey
  name    TEXT NOT NULL,
  secret  BLOB NOT NULL, -- sealed
  created TEXT NOT NULL,
  used    TEXT NOT NULL DEFAULT '',
  step    INTEGER NOT NULL DEFAULT 0 -- of a code: the last step of time that one was taken of
) STRICT, WITHOUT ROWID;
CREATE INDEX factors_of ON factors (account);
-- What lets in once where the others are lost, by hash.
CREATE TABLE recovery_codes (
  account TEXT NOT NULL REFERENCES accounts (name),
  hash    TEXT NOT NULL,
  PRIMARY KEY (account, hash)
) STRICT, WITHOUT ROWID;
-- When a session's person showed a second factor last.
ALTER TABLE tokens ADD COLUMN proven TEXT NOT NULL DEFAULT '';
