-- +goose Up
-- What a device's configuration was called by the device (its entity tag) when it was judged, and on which revision: a
-- device that has the same tag still holds the same.
ALTER TABLE device_access ADD COLUMN etag text NOT NULL DEFAULT '';
ALTER TABLE device_access ADD COLUMN judged_on integer NOT NULL DEFAULT 0;
-- When something was last heard is written again and again: an index on it makes each of these writes several.
DROP INDEX sighting_last;

-- +goose Down
CREATE INDEX sighting_last ON sighting (last);
ALTER TABLE device_access DROP COLUMN etag, DROP COLUMN judged_on;
