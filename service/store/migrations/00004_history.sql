-- +goose Up
-- A device's configurations stand in runs: one kept whole, and each after it as
-- the edits that make it of the one before.
CREATE TABLE runs (
  id      INTEGER PRIMARY KEY,
  device  INTEGER NOT NULL REFERENCES devices (id),
  modules TEXT NOT NULL REFERENCES module_sets (digest), -- what it is read by
  length  INTEGER NOT NULL, -- configurations in it
  first   TEXT NOT NULL,    -- the digest of the one kept whole
  last    TEXT NOT NULL,    -- and of the newest
  whole   INTEGER NOT NULL, -- bytes of the first one, unpacked
  edits   INTEGER NOT NULL  -- bytes of all edits, unpacked
) STRICT;
CREATE INDEX runs_device ON runs (device);

-- Number 0 of a run is its whole configuration, the others hold its edits.
CREATE TABLE packs (
  run    INTEGER NOT NULL REFERENCES runs (id),
  number INTEGER NOT NULL,
  body   BLOB NOT NULL,
  PRIMARY KEY (run, number)
) STRICT;

-- Those without a run were kept by an earlier release, whole, in their body.
ALTER TABLE configs ADD COLUMN run INTEGER REFERENCES runs (id);
ALTER TABLE configs ADD COLUMN place INTEGER NOT NULL DEFAULT 0;

-- Who made it so, where that is known; and the cause where source does not say it.
ALTER TABLE revisions ADD COLUMN actor TEXT NOT NULL DEFAULT '';
ALTER TABLE revisions ADD COLUMN cause TEXT NOT NULL DEFAULT '';

-- Startup has a line of its own.
CREATE TABLE startup_revisions (
  device INTEGER NOT NULL REFERENCES devices (id),
  number INTEGER NOT NULL,
  digest TEXT NOT NULL REFERENCES configs (digest),
  at     TEXT NOT NULL,
  source TEXT NOT NULL CHECK (source IN ('first', 'saved', 'outside')),
  change INTEGER REFERENCES changes (number),
  actor  TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (device, number)
) STRICT;

CREATE TABLE snapshots (
  number     INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL,
  note       TEXT NOT NULL DEFAULT '',
  actor      TEXT NOT NULL,
  at         TEXT NOT NULL,
  change     INTEGER REFERENCES changes (number), -- before whose commit it was taken by itself
  protected  INTEGER NOT NULL DEFAULT 0,
  retired_at TEXT NOT NULL DEFAULT '',
  retired_by TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX snapshots_name ON snapshots (name);
CREATE INDEX snapshots_change ON snapshots (change);

CREATE TABLE snapshot_items (
  snapshot INTEGER NOT NULL REFERENCES snapshots (number),
  device   INTEGER NOT NULL REFERENCES devices (id),
  digest   TEXT NOT NULL REFERENCES configs (digest),
  revision INTEGER NOT NULL, -- 0 where it was a commit's trial
  startup  TEXT REFERENCES configs (digest), -- NULL where the device has none
  at       TEXT NOT NULL,
  unclean  TEXT NOT NULL DEFAULT '', -- why the moment was not clean, a line each
  PRIMARY KEY (snapshot, device)
) STRICT;
CREATE INDEX snapshot_items_device ON snapshot_items (device);

-- What a change was made from by itself: an undo, a restore.
ALTER TABLE changes ADD COLUMN origin TEXT NOT NULL DEFAULT '';

CREATE INDEX commit_parts_device ON commit_parts (device);
CREATE INDEX revisions_change ON revisions (change) WHERE change IS NOT NULL;

-- What a device tells of itself, '' where it does not; and that another box
-- stands in its place since it was last read.
ALTER TABLE devices ADD COLUMN model TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN serial TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN replaced INTEGER NOT NULL DEFAULT 0;

-- Words with a revision: what an archive told of it.
ALTER TABLE revisions ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- Where copies go, in the order in which they are tried.
CREATE TABLE archives (
  id           INTEGER PRIMARY KEY AUTOINCREMENT,
  name         TEXT NOT NULL UNIQUE,
  kind         TEXT NOT NULL CHECK (kind IN ('folder', 'sftp', 'git')),
  place        TEXT NOT NULL, -- a folder, HOST:PORT/FOLDER, or what git takes
  account      TEXT NOT NULL DEFAULT '',
  auth         TEXT NOT NULL DEFAULT '' CHECK (auth IN ('', 'password', 'key')),
  secret       BLOB,
  host_key     TEXT NOT NULL DEFAULT '',
  position     INTEGER NOT NULL,
  after_change INTEGER NOT NULL DEFAULT 1,
  every        INTEGER NOT NULL DEFAULT 0, -- seconds; 0: never by itself
  keep_last    INTEGER NOT NULL DEFAULT 0, -- copies a device; 0: all
  keep_days    INTEGER NOT NULL DEFAULT 0, -- those younger are kept beyond that
  added_at     TEXT NOT NULL,
  added_by     TEXT NOT NULL,
  retired_at   TEXT NOT NULL DEFAULT '',
  copied_at    TEXT NOT NULL DEFAULT '', -- it was brought up to date last
  trouble      TEXT NOT NULL DEFAULT '',
  trouble_at   TEXT NOT NULL DEFAULT ''
) STRICT;

-- A copy counts once it was read back.
CREATE TABLE copies (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  archive  INTEGER NOT NULL REFERENCES archives (id),
  device   INTEGER NOT NULL REFERENCES devices (id),
  revision INTEGER NOT NULL,
  name     TEXT NOT NULL, -- what it is called there
  bytes    INTEGER NOT NULL,
  sha256   TEXT NOT NULL,
  at       TEXT NOT NULL,
  why      TEXT NOT NULL, -- change, interval or hand
  read_at  TEXT NOT NULL, -- it was read back and found whole last
  trouble  TEXT NOT NULL DEFAULT '', -- what was wrong when it was read
  gone_at  TEXT NOT NULL DEFAULT ''  -- it was dropped by the rules of retention
) STRICT;
CREATE INDEX copies_device ON copies (device, archive, revision);
CREATE INDEX copies_archive ON copies (archive);
