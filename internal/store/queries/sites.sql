-- name: ListSites :many
SELECT s.id, s.code, s.name, s.customer, s.head, r.made_at, coalesce(t.full_name, '') AS made_by,
    (SELECT count(*) FROM work_order o WHERE o.site_id = s.id AND o.state IN ('open', 'pushing')) AS open_orders,
    (SELECT count(*) FROM site_prefix p WHERE p.site_id = s.id) AS networks, coalesce(f.findings, '[]')::json AS around,
    (m.site_id IS NOT NULL)::boolean AS summarised, coalesce(m.block, '') AS block, coalesce(m.findings, '[]')::json AS findings,
    coalesce((SELECT json_agg(json_build_object('finding', a.finding, 'facts', a.facts, 'until', a.until)) FROM finding_meant a WHERE a.site_id = s.id), '[]')::json AS meant
FROM site s JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head
LEFT JOIN technician t ON t.id = r.made_by LEFT JOIN site_standing f ON f.site_id = s.id
LEFT JOIN site_summary m ON m.site_id = s.id AND m.revision = s.head AND m.rules = @rules
WHERE (s.archived_at IS NOT NULL) = @archived::boolean ORDER BY s.customer, s.name;

-- A site with work under way is not put away.
-- name: ArchiveSite :execrows
UPDATE site SET archived_at = now() WHERE site.id = @id AND archived_at IS NULL
AND NOT EXISTS (SELECT FROM work_order o WHERE o.site_id = site.id AND o.state IN ('open', 'pushing'));

-- name: BringSiteBack :execrows
UPDATE site SET archived_at = NULL WHERE id = @id AND archived_at IS NOT NULL;

-- name: PutSummary :exec
INSERT INTO site_summary (site_id, revision, rules, block, findings) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (site_id) DO UPDATE SET revision = excluded.revision, rules = excluded.rules, block = excluded.block, findings = excluded.findings
WHERE site_summary.revision <= excluded.revision;

-- name: PutStanding :exec
INSERT INTO site_standing (site_id, revision, findings) VALUES ($1, $2, $3)
ON CONFLICT (site_id) DO UPDATE SET revision = excluded.revision, findings = excluded.findings, looked_at = now();

-- What was found around a site, and whether that was lately.
-- name: Standing :one
SELECT revision, findings, (looked_at > now() - interval '5 minutes')::boolean AS lately FROM site_standing WHERE site_id = $1;

-- The sites to look around at next: new ones, those with another revision than
-- when they were looked at, and those that wait the longest.
-- name: SitesToLookAt :many
SELECT s.* FROM site s LEFT JOIN site_standing f ON f.site_id = s.id
WHERE s.archived_at IS NULL AND (f.site_id IS NULL OR f.revision <> s.head OR f.looked_at < @before)
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

-- The newest revision of a site that has a part with an id; 0 for none.
-- name: LastRevisionWith :one
SELECT coalesce(max(revision), 0)::integer FROM site_revision WHERE site_id = @site_id
AND jsonb_path_exists(doc, '$.**.id ? (@ == $id)', jsonb_build_object('id', @part::text));

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

-- name: DropNames :exec
DELETE FROM site_name WHERE site_id = $1;

-- name: PutNames :copyfrom
INSERT INTO site_name (site_id, part, name, side, type, data, home) VALUES ($1, $2, $3, $4, $5, $6, $7);

-- The names that other sites of a customer tell the world, and the zones of their own domains.
-- name: NeighborNames :many
SELECT n.site_id, s.name AS site, n.name, n.home FROM site_name n JOIN site s ON s.id = n.site_id
WHERE s.customer = @customer AND s.id <> @but AND (n.side = 'outside' AND n.type <> 'SOA' OR n.home) ORDER BY s.name, n.site_id, n.name;

-- name: FindNames :many
SELECT s.code, s.name AS site, n.part, n.name, n.side, n.type, n.data FROM site_name n JOIN site s ON s.id = n.site_id
WHERE n.name ILIKE @name::text OR n.data ILIKE @name
ORDER BY (n.name = @text::text) DESC, similarity(n.name, @text) DESC, s.name, n.name LIMIT 20;

-- A pattern that is empty finds nothing.
-- name: FindOwners :many
SELECT s.code, s.name AS site, a.part, a.network, a.name, a.address, a.mac FROM site_address a JOIN site s ON s.id = a.site_id
WHERE @name::text <> '' AND a.name ILIKE @name OR @address::text <> '' AND host(a.address) LIKE @address
    OR @mac::text <> '' AND translate(a.mac::text, ':', '') LIKE @mac
ORDER BY (lower(a.name) = lower(@text::text) OR host(a.address) = @text) DESC, similarity(a.name, @text) DESC, s.name, a.address LIMIT 20;

-- What was seen, the latest first, with the smallest network that holds the address and the name of who heard it.
-- name: FindSeen :many
SELECT s.code, s.name AS site, v.source, v.address, v.mac, v.name, v.port, v.last, v.expires, coalesce(p.part, '') AS network,
    coalesce((SELECT d.device ->> 'name' FROM (SELECT jsonb_array_elements(r.doc -> 'devices') AS device FROM site_revision r
        WHERE r.site_id = s.id AND r.revision = s.head) d WHERE d.device ->> 'id' = v.device_id), v.device_id)::text AS device
FROM sighting v JOIN site s ON s.id = v.site_id
LEFT JOIN LATERAL (SELECT n.part FROM site_prefix n WHERE n.site_id = s.id AND n.prefix >>= v.address
    ORDER BY masklen(n.prefix) DESC LIMIT 1) p ON true
WHERE @name::text <> '' AND v.name ILIKE @name OR @address::text <> '' AND host(v.address) LIKE @address
    OR @mac::text <> '' AND translate(v.mac::text, ':', '') LIKE @mac
ORDER BY v.last DESC LIMIT 40;

-- name: FindOrders :many
SELECT o.id, o.title, o.ticket, o.state, s.name AS site, s.code, t.full_name AS opener FROM work_order o
JOIN site s ON s.id = o.site_id JOIN technician t ON t.id = o.opened_by
WHERE o.id = @id OR o.title ILIKE @name OR o.ticket ILIKE @name OR t.full_name ILIKE @name
    OR EXISTS (SELECT FROM work_order_step e JOIN technician m ON m.id = e.made_by WHERE e.order_id = o.id AND m.full_name ILIKE @name)
ORDER BY (o.id = @id) DESC, (o.state IN ('open', 'pushing')) DESC, o.id DESC LIMIT 20;

-- Those of a title, of an address (which is part of its id), or of rules.
-- name: FindFindings :many
SELECT f.code, f.site, (f.finding ->> 'id')::text AS id, (f.finding ->> 'title')::text AS title FROM (
    SELECT s.code, s.name AS site,
        jsonb_array_elements(coalesce(m.findings, '[]')::jsonb || coalesce(a.findings, '[]')::jsonb) AS finding FROM site s
    LEFT JOIN site_summary m ON m.site_id = s.id AND m.revision = s.head AND m.rules = @rules
    LEFT JOIN site_standing a ON a.site_id = s.id AND a.revision = s.head) f
WHERE @address::text = '' AND f.finding ->> 'title' ILIKE @name::text
OR @address <> '' AND ((f.finding ->> 'id') || '.' LIKE '%.' || @address || '.%'
    OR f.finding ->> 'title' ~ ('(^|[^0-9.])' || replace(@address, '.', '\.') || '($|[^0-9])'))
OR split_part(f.finding ->> 'id', '.', 1) = ANY (@symptom::text[]) ORDER BY f.site LIMIT 20;

-- name: FindPrefixes :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.prefix >>= @address::inet ORDER BY masklen(p.prefix) DESC LIMIT 20;

-- name: FindByVLAN :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.vlan = @vlan ORDER BY s.name LIMIT 20;

-- name: FindNetworksByName :many
SELECT s.code, s.name AS site, p.part, p.name, p.vlan, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE p.name ILIKE @name::text ORDER BY length(p.name), s.name LIMIT 20;

-- name: FindSites :many
SELECT code, name, customer FROM site WHERE name ILIKE @name::text OR code ILIKE @name ORDER BY name LIMIT 10;
