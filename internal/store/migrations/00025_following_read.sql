-- +goose Up
-- What the server of a zone answered for a dynamic name, and from when to when that was read: a row for each
-- time that it became something else. Without it nobody knows since when the world has been told the wrong address.
CREATE TABLE following_read (
    site_id      text NOT NULL REFERENCES site (id),
    following_id text NOT NULL,
    type         text NOT NULL,
    data         text[] NOT NULL,
    first        timestamptz NOT NULL DEFAULT now(),
    last         timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, following_id, type, first)
);

-- +goose Down
DROP TABLE following_read;
