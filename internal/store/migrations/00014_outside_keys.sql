-- +goose Up
-- Keys of a zone as its provider has them, without the keys themselves, and who writes its records.
ALTER TABLE zone_reading ADD COLUMN keys jsonb NOT NULL DEFAULT '[]', ADD COLUMN sets jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN keys_problem text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE zone_reading DROP COLUMN keys, DROP COLUMN sets, DROP COLUMN keys_problem;
