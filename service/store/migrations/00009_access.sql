-- +goose Up
-- What an account may do: a JSON list of ROLE or ROLE@site=NAME. What it was
-- until now, one of three, is kept to.
ALTER TABLE accounts ADD COLUMN grants TEXT NOT NULL DEFAULT '[]';
UPDATE accounts SET grants = CASE role
  WHEN 'admin' THEN '["read","stage","commit","approve","audit","administer","reveal"]'
  WHEN 'operator' THEN '["read","stage","commit","approve","audit"]'
  ELSE '["read","audit"]' END;
ALTER TABLE accounts DROP COLUMN role;
ALTER TABLE accounts ADD COLUMN closed_at TEXT NOT NULL DEFAULT '';
-- Who vouches for it, and by what name, where it signs in elsewhere.
ALTER TABLE accounts ADD COLUMN issuer TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX accounts_subject ON accounts (issuer, subject) WHERE subject <> '';

-- Sessions of persons, and tokens of machines.
ALTER TABLE tokens ADD COLUMN kind TEXT NOT NULL DEFAULT 'session' CHECK (kind IN ('session', 'machine'));
ALTER TABLE tokens ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN grants TEXT NOT NULL DEFAULT ''; -- '' is all that the account may
ALTER TABLE tokens ADD COLUMN used_at TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN source TEXT NOT NULL DEFAULT '';
UPDATE tokens SET used_at = created_at;
CREATE INDEX tokens_account ON tokens (account);

ALTER TABLE devices ADD COLUMN tags TEXT NOT NULL DEFAULT ''; -- with spaces between
