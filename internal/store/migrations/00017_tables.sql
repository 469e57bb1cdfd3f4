-- +goose Up
-- What the columns of tables hold, by their headings, as somebody has said.
CREATE TABLE table_columns (
    headings text PRIMARY KEY,
    columns  text[] NOT NULL,
    said_by  bigint NOT NULL REFERENCES technician (id),
    said_at  timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE table_columns;
