-- +goose Up
-- What was found around a site when it was last looked at: findings that depend
-- on what is seen, on the day and on the customer's other sites, for Rounds.
CREATE TABLE site_standing (
    site_id   text PRIMARY KEY REFERENCES site (id),
    revision  integer NOT NULL,
    findings  json NOT NULL,
    looked_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE site_standing;
