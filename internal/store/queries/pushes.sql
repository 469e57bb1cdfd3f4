-- name: StartPush :one
INSERT INTO push (order_id, site_id, version, state, started_by) VALUES ($1, $2, $3, 'queued', $4) RETURNING id;

-- name: PushByID :one
SELECT * FROM push WHERE id = $1;

-- name: LatestPush :one
SELECT p.*, t.full_name AS starter FROM push p JOIN technician t ON t.id = p.started_by WHERE p.order_id = $1 ORDER BY p.id DESC LIMIT 1;

-- name: SetPushState :exec
UPDATE push SET state = @state, problem = @problem, finished_at = CASE WHEN @state::text IN ('landed', 'failed') THEN now() END WHERE id = @id;

-- name: Journal :many
SELECT seq, at, device, stage, says, state FROM push_journal WHERE push_id = $1 ORDER BY seq;

-- name: WriteJournal :exec
INSERT INTO push_journal (push_id, seq, device, stage, says, state)
VALUES (@push_id, (SELECT coalesce(max(seq), 0) + 1 FROM push_journal j WHERE j.push_id = @push_id), @device, @stage, @says, @state);

-- name: CloseJournal :exec
UPDATE push_journal SET state = @state, says = says || @detail::text WHERE push_id = @push_id AND state = 'running';

-- name: PutAccess :exec
INSERT INTO device_access (site_id, device_id, url, account, secret, fingerprint) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (site_id, device_id) DO UPDATE SET url = excluded.url, account = excluded.account, secret = excluded.secret, fingerprint = excluded.fingerprint;

-- name: AccessOfSite :many
SELECT * FROM device_access WHERE site_id = $1 ORDER BY device_id;

-- name: SitesWithAccess :many
SELECT DISTINCT site_id FROM device_access ORDER BY site_id;

-- name: NoteRead :exec
UPDATE device_access SET read_at = CASE WHEN @problem::text = '' THEN now() ELSE read_at END, problem = @problem WHERE site_id = @site_id AND device_id = @device_id;

-- name: PutSighting :batchexec
INSERT INTO sighting (site_id, device_id, source, address, mac, client_id, name, pool, state, port, first, last, expires)
VALUES (@site_id, @device_id, @source, @address, @mac, @client_id, @name, @pool, @state, @port, @last, @last, @expires)
ON CONFLICT (site_id, device_id, source, address, mac) DO UPDATE SET
    client_id = excluded.client_id, name = excluded.name, pool = excluded.pool, state = excluded.state, port = excluded.port, last = excluded.last, expires = excluded.expires;

-- name: SupersedeLease :batchexec
-- An address has one lease: those other clients had have ended.
UPDATE sighting SET state = 'expired', expires = least(expires, now())
WHERE site_id = @site_id AND device_id = @device_id AND source = 'lease' AND address = @address AND mac <> @mac AND state <> 'expired';

-- name: ForgetSightings :exec
DELETE FROM sighting WHERE last < now() - interval '60 days';

-- name: PutSecret :exec
INSERT INTO secret (site_id, name, sealed, put_by, order_id) VALUES (@site_id, @name, @sealed, nullif(@put_by::bigint, 0), nullif(@order_id::bigint, 0))
ON CONFLICT (site_id, name) DO UPDATE SET sealed = excluded.sealed, put_by = excluded.put_by, put_at = now();

-- The passwords typed in an order that nothing names now that it has ended.
-- name: ForgetSecrets :exec
DELETE FROM secret WHERE order_id = @order_id AND NOT name = ANY(@used::text[]);

-- name: SecretNamed :one
SELECT sealed FROM secret WHERE site_id = $1 AND name = $2;

-- name: NeighborPrefixes :many
SELECT s.id AS site_id, s.name AS site, p.part, p.name, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE s.customer = @customer AND s.id <> @but ORDER BY s.name, s.id, p.prefix;

-- name: SightingsOfSite :many
SELECT * FROM sighting WHERE site_id = $1 ORDER BY address;

-- name: Notify :exec
SELECT pg_notify('lithos', @payload::text);
