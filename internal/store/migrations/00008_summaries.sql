-- +goose Up
-- What Rounds says of a site's newest revision, so that a fleet is listed without its
-- documents. It counts for the rules it was made with alone.
CREATE TABLE site_summary (
    site_id  text PRIMARY KEY REFERENCES site (id) ON DELETE CASCADE,
    revision integer NOT NULL,
    rules    text NOT NULL,
    block    text NOT NULL,
    findings json NOT NULL
);

-- +goose Down
DROP TABLE site_summary;
