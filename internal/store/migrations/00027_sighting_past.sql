-- +goose Up
-- Who had an address, in a compact form: a row for each time without a gap, written from what is seen. It is kept for
-- long, where sightings are forgotten.
CREATE TABLE sighting_past (
    site_id   text NOT NULL REFERENCES site (id),
    address   inet NOT NULL,
    mac       macaddr NOT NULL,
    source    text NOT NULL,
    device_id text NOT NULL, -- that said so
    name      text NOT NULL,
    port      text NOT NULL, -- that the client was heard on
    port_of   text NOT NULL, -- id of the device of that port
    first     timestamptz NOT NULL,
    until     timestamptz NOT NULL,
    PRIMARY KEY (site_id, address, mac, source, device_id, first)
);
CREATE INDEX sighting_past_name ON sighting_past (site_id, lower(name));
CREATE INDEX sighting_past_until ON sighting_past (until);

-- A lease counts from when it was given until it ends; a neighbour while it is heard. Gaps of less than an hour are none,
-- and less than ten minutes more are not worth a write.
-- +goose StatementBegin
CREATE FUNCTION note_past() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    ends timestamptz := NEW.last;
    heard record;
BEGIN
    IF NEW.source NOT IN ('lease', 'neighbour') THEN
        RETURN NULL;
    END IF;
    IF NEW.source = 'lease' THEN
        IF NEW.state IN ('released', 'expired') THEN
            UPDATE sighting_past p SET until = greatest(p.first, least(p.until, coalesce(NEW.expires, NEW.last)))
            WHERE p.site_id = NEW.site_id AND p.address = NEW.address AND p.mac = NEW.mac AND p.source = NEW.source
            AND p.device_id = NEW.device_id AND p.until > coalesce(NEW.expires, NEW.last);
            RETURN NULL;
        END IF;
        IF NEW.state <> 'bound' THEN
            RETURN NULL;
        END IF;
        ends := coalesce(NEW.expires, NEW.last);
    END IF;
    IF EXISTS (SELECT FROM sighting_past p WHERE p.site_id = NEW.site_id AND p.address = NEW.address AND p.mac = NEW.mac
        AND p.source = NEW.source AND p.device_id = NEW.device_id AND p.first <= NEW.last AND p.until >= ends - interval '10 minutes') THEN
        RETURN NULL;
    END IF;
    SELECT s.port, s.device_id INTO heard FROM sighting s WHERE s.site_id = NEW.site_id AND s.source = 'station' AND s.mac = NEW.mac
    ORDER BY s.last DESC LIMIT 1;
    UPDATE sighting_past p SET until = ends, name = coalesce(nullif(NEW.name, ''), p.name),
        port = coalesce(heard.port, p.port), port_of = coalesce(heard.device_id, p.port_of)
    WHERE p.site_id = NEW.site_id AND p.address = NEW.address AND p.mac = NEW.mac AND p.source = NEW.source
    AND p.device_id = NEW.device_id AND p.until >= NEW.last - interval '1 hour' AND p.until < ends;
    IF NOT FOUND THEN
        INSERT INTO sighting_past VALUES (NEW.site_id, NEW.address, NEW.mac, NEW.source, NEW.device_id, NEW.name,
            coalesce(heard.port, ''), coalesce(heard.device_id, ''), NEW.last, ends) ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER sighting_past AFTER INSERT OR UPDATE ON sighting FOR EACH ROW EXECUTE FUNCTION note_past();
INSERT INTO sighting_past SELECT site_id, address, mac, source, device_id, name, '', '', min(first), max(greatest(last, coalesce(expires, last)))
FROM sighting WHERE source = 'neighbour' OR source = 'lease' AND state IN ('bound', 'expired')
GROUP BY site_id, address, mac, source, device_id, name;

-- +goose Down
DROP TRIGGER sighting_past ON sighting;
DROP FUNCTION note_past;
DROP TABLE sighting_past;
