-- +goose Up
-- The standards and the customers' options as they are kept for all sites. A revision of a site has what they were when it
-- was made.
CREATE TABLE kept_level (
    kind       text NOT NULL CHECK (kind IN ('standard', 'customer')),
    id         text NOT NULL,
    version    integer NOT NULL DEFAULT 1,
    doc        jsonb NOT NULL,
    changed_by bigint REFERENCES technician (id),
    changed_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (kind, id)
);
ALTER TABLE site ADD COLUMN standard_id text NOT NULL DEFAULT '';
ALTER TABLE site ADD COLUMN customer_id text NOT NULL DEFAULT '';
UPDATE site s SET standard_id = coalesce(r.doc -> 'standard' ->> 'id', ''), customer_id = coalesce(r.doc -> 'customer' ->> 'id', '')
FROM site_revision r WHERE r.site_id = s.id AND r.revision = s.head;
-- Of copies that differ the one of the newest revision is kept.
INSERT INTO kept_level (kind, id, doc)
SELECT DISTINCT ON (s.standard_id) 'standard', s.standard_id, r.doc -> 'standard'
FROM site s JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head
WHERE s.standard_id <> '' ORDER BY s.standard_id, r.made_at DESC;
INSERT INTO kept_level (kind, id, doc)
SELECT DISTINCT ON (s.customer_id) 'customer', s.customer_id, r.doc -> 'customer'
FROM site s JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head
WHERE s.customer_id <> '' ORDER BY s.customer_id, r.made_at DESC;

-- +goose Down
ALTER TABLE site DROP COLUMN customer_id;
ALTER TABLE site DROP COLUMN standard_id;
DROP TABLE kept_level;
