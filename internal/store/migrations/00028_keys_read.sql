-- +goose Up
-- When the provider of a zone told its keys the last time: none told is something else than never asked.
ALTER TABLE zone_reading ADD COLUMN keys_read_at timestamptz;

-- +goose Down
ALTER TABLE zone_reading DROP COLUMN keys_read_at;
