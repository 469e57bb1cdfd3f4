-- +goose Up
-- The addresses that lines had, one row for as long as it was the same.
CREATE TABLE line_address (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    interface_id text NOT NULL,
    address inet NOT NULL,
    first timestamptz NOT NULL DEFAULT now(),
    last timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX line_address_line ON line_address (site_id, interface_id, id);
-- What was sent of names that follow, with what outcome.
CREATE TABLE told_address (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    following_id text NOT NULL,
    address inet NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    taken boolean NOT NULL,
    says text NOT NULL
);
CREATE INDEX told_address_name ON told_address (site_id, following_id, id);

-- +goose Down
DROP TABLE told_address, line_address;
