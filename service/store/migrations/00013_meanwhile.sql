-- +goose Up
-- A change is told with what somebody else did on its devices during its hold.
CREATE INDEX outside_changes_during ON outside_changes (during) WHERE during <> 0;
