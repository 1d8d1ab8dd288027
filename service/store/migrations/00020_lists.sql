-- +goose Up
-- Changes are asked for by their state, by their author and by their ticket, newest first.
CREATE INDEX changes_state ON changes (state, number);
CREATE INDEX changes_author ON changes (author, number);
CREATE INDEX changes_ticket ON changes (ticket COLLATE NOCASE, number) WHERE ticket <> '';
CREATE INDEX company_account ON company (account, change);
CREATE INDEX parts_device ON parts (device, change);
-- Who may see what is asked with every list.
CREATE INDEX devices_places ON devices (name, site, role, tags);
-- What needs somebody, of all devices.
CREATE INDEX devices_trouble ON devices (id) WHERE trouble <> '' OR host_key = '' OR unsaved;
CREATE INDEX schedule_change ON schedule (change) WHERE state = 'waiting';
