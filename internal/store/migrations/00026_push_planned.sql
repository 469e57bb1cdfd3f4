-- +goose Up
-- The steps of a push as they were planned when it began, and the networks that it proves: what an order's page shows of
-- it for ever.
ALTER TABLE push ADD COLUMN planned jsonb;

-- +goose Down
ALTER TABLE push DROP COLUMN planned;
