-- +goose Up
-- The rungs of networks' ladders that do not hold as a device is set, and would if it had what it was given.
ALTER TABLE device_access ADD COLUMN cuts jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE device_access DROP COLUMN cuts;
