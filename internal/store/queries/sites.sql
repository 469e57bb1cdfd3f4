-- name: ListSites :many
SELECT s.id, s.code, s.name, s.customer, s.head, r.made_at, coalesce(t.full_name, '') AS made_by,
    (SELECT count(*) FROM work_order o WHERE o.site_id = s.id AND o.state IN ('open', 'pushing')) AS open_orders,
    (SELECT count(*) FROM site_prefix p WHERE p.site_id = s.id) AS networks, coalesce(f.findings, '[]')::json AS around,
    (m.site_id IS NOT NULL)::boolean AS summarised, coalesce(m.block, '') AS block, coalesce(m.findings, '[]')::json AS findings
FROM site s JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head
LEFT JOIN technician t ON t.id = r.made_by LEFT JOIN site_standing f ON f.site_id = s.id
LEFT JOIN site_summary m ON m.site_id = s.id AND m.revision = s.head AND m.rules = @rules
ORDER BY s.customer, s.name;

-- name: PutSummary :exec
INSERT INTO site_summary (site_id, revision, rules, block, findings) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (site_id) DO UPDATE SET revision = excluded.revision, rules = excluded.rules, block = excluded.block, findings = excluded.findings
WHERE site_summary.revision <= excluded.revision;

-- name: PutStanding :exec
INSERT INTO site_standing (site_id, revision, findings) VALUES ($1, $2, $3)
ON CONFLICT (site_id) DO UPDATE SET revision = excluded.revision, findings = excluded.findings, looked_at = now();

-- name: Standing :one
SELECT findings FROM site_standing WHERE site_id = $1;

-- The sites to look around at next: new ones, those with another revision than
-- when they were looked at, and those that wait the longest.
-- name: SitesToLookAt :many
SELECT s.* FROM site s LEFT JOIN site_standing f ON f.site_id = s.id
WHERE f.site_id IS NULL OR f.revision <> s.head OR f.looked_at < @before
ORDER BY f.looked_at NULLS FIRST LIMIT @most;

-- A changed site may overlap the customer's others, or no longer.
-- name: LookAgainAtCustomer :exec
UPDATE site_standing f SET looked_at = '-infinity' FROM site s
WHERE s.id = f.site_id AND s.customer = @customer AND f.looked_at > '-infinity';

-- name: SiteByCode :one
SELECT * FROM site WHERE code = $1;

-- name: SiteByID :one
SELECT * FROM site WHERE id = $1;

-- name: RevisionDoc :one
SELECT doc FROM site_revision WHERE site_id = $1 AND revision = $2;

-- name: ListRevisions :many
SELECT r.revision, r.note, r.order_id, r.made_at, coalesce(t.full_name, '') AS made_by
FROM site_revision r LEFT JOIN technician t ON t.id = r.made_by
WHERE r.site_id = $1 ORDER BY r.revision DESC;

-- name: InsertSite :exec
INSERT INTO site (id, code, name, customer, head) VALUES ($1, $2, $3, $4, 1);

-- name: AdvanceSite :execrows
UPDATE site SET head = head + 1, code = @code, name = @name, customer = @customer WHERE id = @id AND head = @head;

-- name: InsertRevision :exec
INSERT INTO site_revision (site_id, revision, doc, note, order_id, made_by) VALUES ($1, $2, $3, $4, $5, $6);

-- name: DropPrefixes :exec
DELETE FROM site_prefix WHERE site_id = $1;

-- name: DropAddresses :exec
DELETE FROM site_address WHERE site_id = $1;

-- name: PutPrefixes :copyfrom
INSERT INTO site_prefix (site_id, part, name, vlan, prefix) VALUES ($1, $2, $3, $4, $5);

-- name: PutAddresses :copyfrom
INSERT INTO site_address (site_id, part, network, name, address, mac) VALUES ($1, $2, $3, $4, $5, $6);

-- name: FindByAddress :many
SELECT s.code, s.name AS site, a.part, a.network, a.name, a.address, a.mac FROM site_address a JOIN site s ON s.id = a.site_id
WHERE a.address = @address ORDER BY s.name LIMIT 20;

-- name: FindPrefixes :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.prefix >>= @address::inet ORDER BY masklen(p.prefix) DESC LIMIT 20;

-- name: FindByMAC :many
SELECT s.code, s.name AS site, a.part, a.network, a.name, a.address, a.mac FROM site_address a JOIN site s ON s.id = a.site_id
WHERE a.mac = @mac ORDER BY s.name, a.address LIMIT 20;

-- name: FindByVLAN :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.vlan = @vlan ORDER BY s.name LIMIT 20;

-- name: FindNetworksByName :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.name ILIKE '%' || @text::text || '%' ORDER BY similarity(p.name, @text::text) DESC, s.name LIMIT 20;

-- name: FindByName :many
SELECT s.code, s.name AS site, a.part, a.network, a.name, a.address, a.mac FROM site_address a JOIN site s ON s.id = a.site_id
WHERE a.name ILIKE '%' || @text::text || '%' ORDER BY similarity(a.name, @text::text) DESC, s.name LIMIT 20;

-- name: FindSites :many
SELECT code, name, customer FROM site WHERE name ILIKE '%' || @text::text || '%' OR code ILIKE '%' || @text::text || '%' ORDER BY name LIMIT 10;
