-- +goose Up
-- The work order a password was typed in, which forgets it when it is dropped.
ALTER TABLE secret ADD COLUMN order_id bigint REFERENCES work_order (id);
CREATE INDEX secret_order ON secret (order_id);

-- +goose Down
ALTER TABLE secret DROP COLUMN order_id;
