-- +goose Up
-- The programs beside its resolver that listened for names on a device when it was last read.
ALTER TABLE device_access ADD COLUMN programs jsonb NOT NULL DEFAULT '[]';
-- What the world was told when outside zones were last read from the servers that hold them.
CREATE TABLE zone_reading (
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    zone_id text NOT NULL,
    read_at timestamptz,
    problem text NOT NULL DEFAULT '',
    serial bigint NOT NULL DEFAULT 0,
    records jsonb NOT NULL DEFAULT '[]',
    PRIMARY KEY (site_id, zone_id)
);
-- Since when a site has a name, by the side it is on; of names older than this table nothing is known.
CREATE TABLE name_since (
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    name text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, name)
);

-- +goose Down
DROP TABLE name_since;
DROP TABLE zone_reading;
ALTER TABLE device_access DROP COLUMN programs;
