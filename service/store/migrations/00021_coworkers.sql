-- +goose Up
ALTER TABLE company RENAME TO coworkers;
