-- +goose Up
-- What a work order is for, when it may be pushed, and who has left it to start automatically.
ALTER TABLE work_order ADD COLUMN note text NOT NULL DEFAULT '';
ALTER TABLE work_order ADD COLUMN not_before timestamptz;
ALTER TABLE work_order ADD COLUMN not_after timestamptz;
ALTER TABLE work_order ADD COLUMN waits_for bigint REFERENCES technician (id);
ALTER TABLE work_order ADD COLUMN waited text NOT NULL DEFAULT ''; -- why it did not start, the last time
CREATE INDEX work_order_waiting ON work_order (not_before) WHERE waits_for IS NOT NULL;

-- +goose Down
ALTER TABLE work_order DROP COLUMN waited;
ALTER TABLE work_order DROP COLUMN waits_for;
ALTER TABLE work_order DROP COLUMN not_after;
ALTER TABLE work_order DROP COLUMN not_before;
ALTER TABLE work_order DROP COLUMN note;
