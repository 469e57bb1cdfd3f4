-- +goose Up
-- A site that is looked after no more: it is kept, and out of the way.
ALTER TABLE site ADD COLUMN archived_at timestamptz;

-- +goose Down
ALTER TABLE site DROP COLUMN archived_at;
