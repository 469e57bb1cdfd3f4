-- +goose Up
-- Where a key or password is sent as it is, over HTTPS: it was typed for there, and goes nowhere else. Empty for one
-- that only signs, or is handed to a device.
ALTER TABLE secret ADD COLUMN goes_to text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE secret DROP COLUMN goes_to;
