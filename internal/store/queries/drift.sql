-- What a device holds: the row that is there lasts on where it is the same.
-- name: NoteConfig :exec
WITH latest AS (
    SELECT id, config FROM device_config c WHERE c.site_id = @site_id AND c.device_id = @device_id ORDER BY id DESC LIMIT 1
), same AS (
    UPDATE device_config c SET last_at = now() FROM latest WHERE c.id = latest.id AND latest.config = @config::jsonb RETURNING c.id
)
INSERT INTO device_config (site_id, device_id, config) SELECT @site_id, @device_id, @config::jsonb WHERE NOT EXISTS (SELECT FROM same);

-- It says how many things differed before.
-- name: NoteDrift :one
WITH was AS (
    SELECT site_id, device_id, drifted FROM device_access b WHERE b.site_id = @site_id AND b.device_id = @device_id FOR UPDATE
)
UPDATE device_access a SET drifted = @drifted, others = @others, cuts = @cuts, etag = @etag, judged_on = @judged_on,
    drifted_at = CASE WHEN @drifted::integer = 0 THEN NULL ELSE coalesce(a.drifted_at, now()) END
FROM was WHERE a.site_id = was.site_id AND a.device_id = was.device_id RETURNING was.drifted;

-- The device holds the same still. What says nothing new is not written more than once in five minutes.
-- name: HoldsStill :exec
UPDATE device_config c SET last_at = now() WHERE c.last_at < now() - interval '5 minutes' AND c.id = (
    SELECT id FROM device_config k WHERE k.site_id = @site_id AND k.device_id = @device_id ORDER BY id DESC LIMIT 1);

-- The forms of a device's configuration that are kept: the newest hundred.
-- name: ForgetConfigs :exec
DELETE FROM device_config c WHERE c.id <= (
    SELECT k.id FROM device_config k WHERE k.site_id = c.site_id AND k.device_id = c.device_id ORDER BY k.id DESC OFFSET 100 LIMIT 1);

-- name: ConfigsOfDevice :many
SELECT id, first_at, last_at, length(config::text)::integer AS octets FROM device_config
WHERE site_id = @site_id AND device_id = @device_id ORDER BY id DESC;

-- name: ConfigOfDevice :one
SELECT * FROM device_config WHERE site_id = @site_id AND device_id = @device_id AND (id = @id OR @id = 0) ORDER BY id DESC LIMIT 1;

-- name: PushUnderWay :one
SELECT EXISTS (SELECT FROM push WHERE site_id = @site_id AND state NOT IN ('landed', 'failed')) AS yes;

-- name: AddEvent :exec
INSERT INTO site_event (site_id, kind, about, says) VALUES (@site_id, @kind, @about, @says);

-- name: EventsOfSite :many
SELECT * FROM site_event WHERE site_id = @site_id ORDER BY id DESC LIMIT 300;

-- name: FailedPushesOfSite :many
SELECT p.id, p.order_id, o.title, o.ticket, p.problem, p.started_at, p.finished_at, t.full_name AS starter
FROM push p JOIN work_order o ON o.id = p.order_id JOIN technician t ON t.id = p.started_by
WHERE p.site_id = @site_id AND p.state = 'failed' ORDER BY p.id DESC LIMIT 300;

-- Until when somebody has looked at what happened at a site.
-- name: Looked :one
SELECT coalesce((SELECT at FROM site_look l WHERE l.technician_id = @technician_id AND l.site_id = @site_id), 'epoch')::timestamptz AS at;

-- name: NoteLook :exec
INSERT INTO site_look (technician_id, site_id) VALUES (@technician_id, @site_id)
ON CONFLICT (technician_id, site_id) DO UPDATE SET at = now();

-- It says whether the server is a new one.
-- name: NoteServer :one
INSERT INTO stray_server (site_id, device_id, interface, address, mac, last_at) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (site_id, address) DO UPDATE SET last_at = greatest(stray_server.last_at, excluded.last_at), device_id = excluded.device_id,
    interface = excluded.interface, mac = excluded.mac
RETURNING (xmax = 0)::boolean AS fresh;

-- name: ServersOfSite :many
SELECT * FROM stray_server WHERE site_id = $1 AND last_at > now() - interval '1 day' ORDER BY address;

-- name: ForgetServers :exec
DELETE FROM stray_server WHERE last_at < now() - interval '30 days';

-- name: ColumnsOf :many
SELECT columns FROM table_columns WHERE headings = $1;

-- name: KeepColumns :exec
INSERT INTO table_columns (headings, columns, said_by) VALUES ($1, $2, $3)
ON CONFLICT (headings) DO UPDATE SET columns = excluded.columns, said_by = excluded.said_by, said_at = now();
