-- +goose NO TRANSACTION
-- +goose Up

-- Confirmed is what was kept, accepted what was left, in the words of docs/words.md. Of the tables only the text is
-- written anew: see 00012.
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, '''kept''', '''confirmed''') WHERE type = 'table' AND name IN ('changes', 'settled');
UPDATE sqlite_schema SET sql = replace(sql, '''left''', '''accepted''') WHERE type = 'table' AND name = 'settled';
CREATE TABLE told_apart (n INTEGER) STRICT;
DROP TABLE told_apart;
PRAGMA writable_schema = RESET;

UPDATE changes SET state = 'confirmed' WHERE state = 'kept';
UPDATE settled SET standing = 'confirmed' WHERE standing = 'kept';
UPDATE settled SET standing = 'accepted' WHERE standing = 'left';
UPDATE commits SET state = replace(replace(replace(replace(replace(state, '"standing":"going back"', '"standing":"reverting"'), '"outcome":"kept"', '"outcome":"confirmed"'),
  '"standing":"kept"', '"standing":"confirmed"'), '"standing":"left"', '"standing":"accepted"'), '"phase":"keeping"', '"phase":"confirming"')
  WHERE state LIKE '%"kept"%' OR state LIKE '%"left"%' OR state LIKE '%"keeping"%' OR state LIKE '%"going back"%';
UPDATE journal SET event = replace(event, '"say-leave"', '"say-accept"') WHERE event LIKE '%"say-leave"%';

-- +goose Down
