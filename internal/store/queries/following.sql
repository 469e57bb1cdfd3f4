-- name: NoteLine :exec
WITH latest AS (
    SELECT id, address FROM line_address WHERE site_id = @site_id AND interface_id = @interface_id
    AND family(address) = family(@address::inet) ORDER BY id DESC LIMIT 1
), same AS (
    UPDATE line_address l SET last = now() FROM latest WHERE l.id = latest.id AND latest.address = @address::inet RETURNING l.id
)
INSERT INTO line_address (site_id, interface_id, address)
SELECT @site_id, @interface_id, @address::inet WHERE NOT EXISTS (SELECT 1 FROM same);

-- name: HadLine :exec
INSERT INTO line_address (site_id, interface_id, address, first, last)
VALUES (@site_id, @interface_id, @address::inet, @first, @last);

-- name: LinesOfSite :many
SELECT * FROM line_address WHERE site_id = $1 AND last > now() - interval '7 days' ORDER BY interface_id, id;

-- name: NoteTold :exec
INSERT INTO told_address (site_id, following_id, address, taken, says) VALUES (@site_id, @following_id, @address, @taken, @says);

-- name: NoteSent :exec
INSERT INTO told_address (site_id, following_id, address, at, taken, says)
SELECT @site_id, @following_id, @address::inet, @at::timestamptz, @taken, @says WHERE NOT EXISTS (SELECT 1 FROM told_address t
WHERE t.site_id = @site_id AND t.following_id = @following_id AND t.address = @address::inet AND t.at = @at::timestamptz);

-- name: ToldOfSite :many
SELECT * FROM told_address WHERE site_id = $1 AND at > now() - interval '7 days' ORDER BY following_id, at, id;

-- A reading of what a server answers for a name: it makes the last row longer, or a new one where that said something
-- else, or something was told since.
-- name: NoteFollowingRead :exec
WITH latest AS (
    SELECT f.first FROM following_read f WHERE f.site_id = @site_id AND f.following_id = @following_id AND f.type = @type
    ORDER BY f.first DESC LIMIT 1
), longer AS (
    UPDATE following_read f SET last = now() FROM latest WHERE f.site_id = @site_id AND f.following_id = @following_id
    AND f.type = @type AND f.first = latest.first AND f.data = @data::text[] AND f.last >= @told_at::timestamptz RETURNING f.first
)
INSERT INTO following_read (site_id, following_id, type, data)
SELECT @site_id, @following_id, @type, @data::text[] WHERE NOT EXISTS (SELECT FROM longer);

-- name: FollowingReads :many
SELECT * FROM following_read WHERE site_id = ANY (@sites::text[]) AND last > now() - interval '7 days'
ORDER BY site_id, following_id, type, first;

-- name: FollowingReadsOfSite :many
SELECT * FROM following_read WHERE site_id = $1 AND last > now() - interval '7 days' ORDER BY following_id, type, first;

-- name: ForgetLines :exec
WITH gone AS (DELETE FROM told_address WHERE at < now() - interval '60 days'),
    read AS (DELETE FROM following_read f WHERE f.last < now() - interval '60 days')
DELETE FROM line_address WHERE last < now() - interval '60 days';


-- name: FollowedSites :many
SELECT s.id, s.code, s.name, s.customer, jsonb_build_object(
    'following', r.doc -> 'following',
    'zones', (SELECT coalesce(jsonb_agg(z - 'records' || jsonb_build_object('records',
            jsonb_path_query_array(z, '$.records[*] ? (@.type == "A" || @.type == "AAAA" || @.type == "CNAME")'))), '[]')
        FROM jsonb_array_elements(coalesce(r.doc -> 'zones', '[]')) z WHERE z ->> 'side' = 'outside'),
    'devices', (SELECT coalesce(jsonb_agg(jsonb_build_object('id', d -> 'id', 'name', d -> 'name', 'kind', d -> 'kind', 'interfaces',
            jsonb_path_query_array(d, '$.interfaces[*] ? (@.kind == "uplink")'))), '[]')
        FROM jsonb_array_elements(coalesce(r.doc -> 'devices', '[]')) d))::jsonb AS doc
FROM site s JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head
WHERE s.archived_at IS NULL AND jsonb_array_length(coalesce(r.doc -> 'following', '[]')) > 0 ORDER BY s.customer, s.name, s.id;

-- name: FollowedLines :many
SELECT * FROM line_address WHERE site_id = ANY (@sites::text[]) AND last > now() - interval '7 days' ORDER BY site_id, interface_id, id;

-- name: FollowedTold :many
SELECT * FROM told_address WHERE site_id = ANY (@sites::text[]) AND at > now() - interval '7 days' ORDER BY site_id, following_id, at, id;

-- name: FollowedZones :many
SELECT site_id, zone_id, read_at, problem, serial, keys, sets, keys_problem, keys_read_at,
    jsonb_path_query_array(records, '$[*] ? (@.Type == "A" || @.Type == "AAAA")')::jsonb AS records
FROM zone_reading WHERE site_id = ANY (@sites::text[]) ORDER BY site_id, zone_id;

-- name: ReachedDevices :many
SELECT site_id, device_id FROM device_access WHERE site_id = ANY (@sites::text[]);
