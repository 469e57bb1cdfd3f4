-- +goose Up
-- What a move changed of what is kept for all sites, as it was before; null until its swap has landed.
ALTER TABLE move ADD COLUMN levels jsonb;

-- +goose Down
ALTER TABLE move DROP COLUMN levels;
