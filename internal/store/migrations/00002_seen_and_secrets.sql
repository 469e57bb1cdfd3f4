-- +goose Up
-- Two machines on one address are two sightings.
ALTER TABLE sighting DROP CONSTRAINT sighting_pkey;
ALTER TABLE sighting ADD PRIMARY KEY (site_id, device_id, source, address, mac);
-- The interface of the device, or the port of a switch, a client was heard on.
ALTER TABLE sighting ADD COLUMN port text NOT NULL DEFAULT '';
ALTER TABLE sighting DROP CONSTRAINT sighting_source_check;
ALTER TABLE sighting ADD CONSTRAINT sighting_source_check CHECK (source IN ('lease', 'neighbour', 'station'));
CREATE INDEX sighting_last ON sighting (last);

-- Passwords that site files refer to by name. They are encrypted (age), put into
-- devices by a push, and never leave the server otherwise.
CREATE TABLE secret (
    site_id text NOT NULL,
    name    text NOT NULL,
    sealed  bytea NOT NULL,
    put_by  bigint REFERENCES technician (id),
    put_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, name)
);

-- +goose Down
DROP TABLE secret;
DROP INDEX sighting_last;
DELETE FROM sighting WHERE source = 'station';
ALTER TABLE sighting DROP CONSTRAINT sighting_source_check;
ALTER TABLE sighting ADD CONSTRAINT sighting_source_check CHECK (source IN ('lease', 'neighbour'));
ALTER TABLE sighting DROP COLUMN port;
DELETE FROM sighting a USING sighting b
    WHERE a.site_id = b.site_id AND a.device_id = b.device_id AND a.source = b.source AND a.address = b.address AND a.last < b.last;
ALTER TABLE sighting DROP CONSTRAINT sighting_pkey;
ALTER TABLE sighting ADD PRIMARY KEY (site_id, device_id, source, address);
