-- +goose Up
-- What zones hold that is written by hand: for Find, and for names that sites of one customer share. A
-- zone is a row of type SOA; home is set for the zone of the site's own domain.
CREATE TABLE site_name (
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    part text NOT NULL,
    name text NOT NULL,
    side text NOT NULL,
    type text NOT NULL,
    data text NOT NULL,
    home boolean NOT NULL
);
CREATE INDEX site_name_site ON site_name (site_id);
CREATE INDEX site_name_name ON site_name USING gin (name gin_trgm_ops);
CREATE INDEX site_name_data ON site_name USING gin (data gin_trgm_ops);

-- +goose Down
DROP TABLE site_name;
