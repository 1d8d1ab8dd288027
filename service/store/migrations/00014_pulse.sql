-- +goose Up
-- When the records were last tried: that something can be put there is known by doing it.
CREATE TABLE pulse (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  at TEXT NOT NULL
);
