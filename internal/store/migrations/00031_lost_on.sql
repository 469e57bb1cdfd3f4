-- +goose Up
-- The revision that an edit was made on which no longer applies: names of what is gone are looked up there.
ALTER TABLE work_order_lost ADD COLUMN made_on integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE work_order_lost DROP COLUMN made_on;
