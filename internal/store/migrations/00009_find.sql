-- +goose Up
-- Find looks for parts of addresses and MACs, too, and for what was seen.
CREATE INDEX site_address_text ON site_address USING gin (host(address) gin_trgm_ops);
CREATE INDEX site_address_mac_text ON site_address USING gin (translate(mac::text, ':', '') gin_trgm_ops);
CREATE INDEX sighting_address_text ON sighting USING gin (host(address) gin_trgm_ops);
CREATE INDEX sighting_mac_text ON sighting USING gin (translate(mac::text, ':', '') gin_trgm_ops);
CREATE INDEX sighting_name ON sighting USING gin (name gin_trgm_ops);

-- +goose Down
DROP INDEX site_address_text, site_address_mac_text, sighting_address_text, sighting_mac_text, sighting_name;
