-- +goose Up
-- Findings that somebody has said are meant so. facts is a digest of what the finding told then: once it tells something
-- else, it is shown again.
CREATE TABLE finding_meant (
    site_id text NOT NULL REFERENCES site ON DELETE CASCADE,
    finding text NOT NULL,
    facts text NOT NULL,
    title text NOT NULL,
    reason text NOT NULL,
    until date,
    said_by bigint NOT NULL REFERENCES technician,
    said_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, finding)
);

-- +goose Down
DROP TABLE finding_meant;
