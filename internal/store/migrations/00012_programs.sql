-- +goose Up
-- The programs beside its resolver that listened for names on a device when it was last read.
ALTER TABLE device_access ADD COLUMN programs jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE device_access DROP COLUMN programs;
