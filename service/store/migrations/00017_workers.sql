-- +goose Up
-- Who ever worked on a change: they neither agree to it nor look at its emergencies. What was
-- taken out of it again counts, too, so that it is no row of edits.
CREATE TABLE workers (
  change  INTEGER NOT NULL REFERENCES changes (number),
  account TEXT NOT NULL,
  PRIMARY KEY (change, account)
) STRICT, WITHOUT ROWID;
INSERT OR IGNORE INTO workers SELECT change, actor FROM ledger
  WHERE change IN (SELECT number FROM changes) AND actor <> 'service' AND outcome = ''
    AND (action IN ('change.open', 'change.rename') OR action GLOB 'edit.*' OR action GLOB 'part.*' OR action GLOB 'expect.*'
      OR action GLOB 'stencil.*' OR action GLOB 'shared.*' OR action GLOB 'outside.*');
INSERT OR IGNORE INTO workers SELECT number, author FROM changes;
INSERT OR IGNORE INTO workers SELECT change, actor FROM edits;
