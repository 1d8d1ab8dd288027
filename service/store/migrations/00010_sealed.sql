-- +goose Up
-- Keys that the service made for itself, sealed with the key file.
CREATE TABLE sealed (
  name TEXT PRIMARY KEY,
  body BLOB NOT NULL
) STRICT;
