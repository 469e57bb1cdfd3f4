-- name: StartPush :one
INSERT INTO push (order_id, site_id, version, state, started_by) VALUES ($1, $2, $3, 'queued', $4) RETURNING id;

-- name: PushByID :one
SELECT * FROM push WHERE id = $1;

-- name: LatestPush :one
SELECT p.*, t.full_name AS starter FROM push p JOIN technician t ON t.id = p.started_by WHERE p.order_id = $1 ORDER BY p.id DESC LIMIT 1;

-- What a push was planned to do when it began; a run that takes it up goes on with that.
-- name: SetPushPlanned :execrows
UPDATE push SET planned = @planned WHERE id = @id AND held_by = @run AND planned IS NULL;

-- name: PlannedOfOrder :one
SELECT planned FROM push WHERE order_id = $1 AND planned IS NOT NULL ORDER BY id DESC LIMIT 1;

-- A run holds its push by a row with a lease, in the database's time.
-- name: HoldPush :one
UPDATE push SET held_by = @run, held_until = now() + make_interval(secs => @seconds::double precision)
WHERE id = @id AND state NOT IN ('landed', 'failed') AND held_until < now() RETURNING *;

-- name: KeepHold :execrows
UPDATE push SET held_until = now() + make_interval(secs => @seconds::double precision)
WHERE id = @id AND held_by = @run AND state NOT IN ('landed', 'failed');

-- name: ReleaseHold :exec
UPDATE push SET held_by = '', held_until = 'epoch' WHERE id = @id AND held_by = @run;

-- A push goes from one of the states its run expects to the next, while the run holds it.
-- name: MovePush :execrows
UPDATE push SET state = @state, problem = @problem, finished_at = CASE WHEN @state::text IN ('landed', 'failed') THEN now() END
WHERE id = @id AND held_by = @run AND state = ANY(@expected::text[]);

-- A technician ends a push that waits for a device's answer; its run loses its hold.
-- name: EndPush :execrows
UPDATE push SET state = 'failed', problem = @problem, finished_at = now(), held_by = '', held_until = 'epoch'
WHERE id = @id AND state IN ('confirming', 'returning');

-- name: Journal :many
SELECT seq, at, device, stage, says, state FROM push_journal WHERE push_id = $1 ORDER BY seq;

-- name: WriteJournal :execrows
INSERT INTO push_journal (push_id, seq, device, stage, says, state)
SELECT p.id, (SELECT coalesce(max(seq), 0) + 1 FROM push_journal j WHERE j.push_id = p.id), @device, @stage, @says, @state
FROM push p WHERE p.id = @push_id AND p.held_by = @run;

-- A line, the end of the one before, and the word to browsers, in one statement. What a push does is known from its state and from the devices, so
-- that lines need not be on disk before it goes on: they get there with its next state. It tells whether somebody has
-- told the push to stop, and gives no row where the run does not hold it.
-- name: WriteLine :one
WITH at AS (
    SELECT p.id, p.stopped_by IS NOT NULL AS stopped FROM push p
    WHERE p.id = @push_id AND p.held_by = @run AND set_config('synchronous_commit', 'off', true) = 'off'
), ended AS (
    UPDATE push_journal j SET state = @ended, says = j.says || @detail::text FROM at WHERE j.push_id = at.id AND j.state = 'running'
), line AS (
    INSERT INTO push_journal (push_id, seq, device, stage, says, state)
    SELECT at.id, (SELECT coalesce(max(seq), 0) + 1 FROM push_journal j WHERE j.push_id = at.id), @device, @stage, @says, @state FROM at
    RETURNING push_id
)
SELECT at.stopped::boolean AS stopped, pg_notify('lithos', @event::text)::text AS told FROM at JOIN line ON line.push_id = at.id;

-- name: CloseJournal :execrows
UPDATE push_journal j SET state = @state, says = j.says || @detail::text FROM push p
WHERE p.id = j.push_id AND j.push_id = @push_id AND p.held_by = @run AND j.state = 'running'
AND set_config('synchronous_commit', 'off', true) = 'off';

-- What a device holds before a push changes it. A device that has returned
-- meanwhile begins anew.
-- name: PutPushDevice :execrows
INSERT INTO push_device (push_id, device_id, name, seq, state, before, startup, by_hand)
SELECT p.id, @device_id, @name, (SELECT count(*) FROM push_device d WHERE d.push_id = p.id), 'begun', @before, @startup, @by_hand
FROM push p WHERE p.id = @push_id AND p.held_by = @run
ON CONFLICT (push_id, device_id) DO UPDATE SET state = 'begun', before = excluded.before, startup = excluded.startup;

-- name: SetPushDevice :execrows
UPDATE push_device d SET state = @state FROM push p
WHERE d.push_id = @push_id AND d.device_id = @device_id AND p.id = d.push_id AND p.held_by = @run;

-- name: PushDevices :many
SELECT * FROM push_device WHERE push_id = $1 ORDER BY seq;

-- name: PutUnverified :execrows
INSERT INTO push_unverified (push_id, seq, name, why)
SELECT p.id, (SELECT count(*) FROM push_unverified u WHERE u.push_id = p.id), @name, @why FROM push p
WHERE p.id = @push_id AND p.held_by = @run;

-- It counts the push itself, so that none is a run that does not hold it any more.
-- name: ForgetUnverified :execrows
WITH at AS (SELECT id FROM push WHERE id = @push_id AND held_by = @run),
gone AS (DELETE FROM push_unverified u USING at WHERE u.push_id = at.id)
SELECT id FROM at;

-- name: Unverified :many
SELECT u.seq, u.name, u.why, coalesce(t.full_name, '') AS verifier, u.verified_at
FROM push_unverified u LEFT JOIN technician t ON t.id = u.verified_by WHERE u.push_id = $1 ORDER BY u.seq;

-- name: Verify :execrows
UPDATE push_unverified u SET verified_by = @by::bigint, verified_at = now() FROM push p
WHERE p.id = u.push_id AND p.order_id = @order_id AND p.state = 'landed' AND u.seq = @seq AND u.verified_at IS NULL;

-- What the revisions of a site landed without proof.
-- name: UnverifiedOfSite :many
SELECT p.order_id, u.name, u.verified_at, coalesce(t.full_name, '') AS verifier
FROM push p JOIN push_unverified u ON u.push_id = p.id LEFT JOIN technician t ON t.id = u.verified_by
WHERE p.site_id = $1 AND p.state = 'landed' ORDER BY p.id, u.seq;

-- name: PutAccess :exec
INSERT INTO device_access (site_id, device_id, url, account, secret, fingerprint, shared) VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (site_id, device_id) DO UPDATE SET url = excluded.url, account = excluded.account, secret = excluded.secret, fingerprint = excluded.fingerprint, shared = excluded.shared, etag = '';

-- name: ForgetAccess :execrows
DELETE FROM device_access WHERE site_id = @site_id AND device_id = @device_id;

-- name: AccessOfSite :many
SELECT a.*, coalesce(k.account, '') AS shared_account, k.secret AS shared_secret, (SELECT c.config FROM device_config c WHERE c.site_id = a.site_id AND c.device_id = a.device_id AND a.drifted + a.others > 0
    ORDER BY c.id DESC LIMIT 1) AS held
FROM device_access a LEFT JOIN credential k ON k.id = a.shared WHERE a.site_id = $1 ORDER BY a.device_id;

-- The sites whose devices are read, those that wait the longest first.
-- name: SitesToRead :many
SELECT site_id FROM device_access JOIN site s ON s.id = site_id WHERE s.archived_at IS NULL GROUP BY site_id ORDER BY min(coalesce(tried_at, '-infinity')), site_id;

-- name: NoteRead :exec
UPDATE device_access SET tried_at = now(), read_at = CASE WHEN @problem::text = '' THEN now() ELSE read_at END, problem = @problem,
    problem_at = CASE WHEN @problem::text = '' THEN NULL ELSE coalesce(problem_at, now()) END, programs = CASE WHEN @problem::text = '' THEN @programs ELSE programs END WHERE site_id = @site_id AND device_id = @device_id;

-- name: NoteZone :exec
INSERT INTO zone_reading (site_id, zone_id, read_at, problem, serial, records)
VALUES (@site_id, @zone_id, CASE WHEN @problem::text = '' THEN now() END, @problem, @serial, @records)
ON CONFLICT (site_id, zone_id) DO UPDATE SET problem = excluded.problem, read_at = coalesce(excluded.read_at, zone_reading.read_at),
    serial = CASE WHEN excluded.problem = '' THEN excluded.serial ELSE zone_reading.serial END,
    records = CASE WHEN excluded.problem = '' THEN excluded.records ELSE zone_reading.records END;

-- name: NoteKeys :exec
INSERT INTO zone_reading (site_id, zone_id, problem, serial, records, keys, sets, keys_problem, keys_read_at)
VALUES (@site_id, @zone_id, '', 0, '[]', @keys, @sets, @problem, CASE WHEN @problem::text = '' THEN now() END)
ON CONFLICT (site_id, zone_id) DO UPDATE SET keys_problem = excluded.keys_problem,
    keys_read_at = coalesce(excluded.keys_read_at, zone_reading.keys_read_at),
    keys = CASE WHEN excluded.keys_problem = '' THEN excluded.keys ELSE zone_reading.keys END,
    sets = CASE WHEN excluded.keys_problem = '' THEN excluded.sets ELSE zone_reading.sets END;

-- name: ZonesOfSite :many
SELECT * FROM zone_reading WHERE site_id = $1 ORDER BY zone_id;

-- name: ForgetNames :exec
DELETE FROM name_since n WHERE n.site_id = @site_id
AND NOT EXISTS (SELECT 1 FROM unnest(@names::text[]) AS now (name) WHERE now.name = n.name);

-- name: NewNames :exec
INSERT INTO name_since (site_id, name) SELECT @site_id, unnest(@names::text[]) ON CONFLICT DO NOTHING;

-- name: NamesSince :many
SELECT name, since FROM name_since WHERE site_id = $1;

-- What says nothing new is not written more than once in two minutes: it is asked for each client at each reading. Who is
-- heard again after another was heard on the same address is news.
-- name: PutSighting :batchexec
INSERT INTO sighting (site_id, device_id, source, address, mac, client_id, name, vendor_class, pool, state, port, first, last, expires)
SELECT @site_id, @device_id, @source, @address, @mac, @client_id, @name, @vendor_class, @pool, @state, @port, @last, @last, @expires
WHERE NOT EXISTS (SELECT FROM sighting s WHERE s.site_id = @site_id AND s.device_id = @device_id AND s.source = @source
    AND s.address = @address AND s.mac = @mac AND @last >= s.last AND @last < s.last + interval '2 minutes'
    AND s.client_id = @client_id AND s.name = @name AND s.vendor_class = @vendor_class AND s.pool = @pool AND s.state = @state
    AND s.port = @port AND s.expires IS NOT DISTINCT FROM @expires
    AND NOT EXISTS (SELECT FROM sighting o WHERE o.site_id = s.site_id AND o.device_id = s.device_id AND o.source = s.source
        AND o.address = s.address AND o.mac <> s.mac AND o.last >= s.last AND s.source = 'neighbour'))
ON CONFLICT (site_id, device_id, source, address, mac) DO UPDATE SET
    client_id = excluded.client_id, name = excluded.name, vendor_class = excluded.vendor_class, pool = excluded.pool, state = excluded.state, port = excluded.port, last = excluded.last, expires = excluded.expires;

-- name: SupersedeLease :batchexec
-- An address has one lease: those other clients had have ended.
UPDATE sighting SET state = 'expired', expires = least(expires, now())
WHERE site_id = @site_id AND device_id = @device_id AND source = 'lease' AND address = @address AND mac <> @mac AND state <> 'expired';

-- Who had an address, or a name, as it was seen; the newest first.
-- name: PastSightings :many
SELECT address, mac, source, device_id, name, port, port_of, first, until FROM sighting_past
WHERE site_id = @site_id AND (address = sqlc.narg(address)::inet OR name <> '' AND lower(name) = lower(nullif(@name::text, '')))
ORDER BY until DESC, first DESC LIMIT 200;

-- name: ForgetPastSightings :exec
DELETE FROM sighting_past WHERE until < now() - make_interval(secs => @seconds::double precision);

-- name: ForgetSightings :exec
DELETE FROM sighting WHERE last < now() - interval '60 days';

-- name: PutSecret :exec
INSERT INTO secret (site_id, name, sealed, put_by, order_id, goes_to)
VALUES (@site_id, @name, @sealed, nullif(@put_by::bigint, 0), nullif(@order_id::bigint, 0), @goes_to)
ON CONFLICT (site_id, name) DO UPDATE SET sealed = excluded.sealed, goes_to = excluded.goes_to, put_by = excluded.put_by, put_at = now();

-- The passwords typed in an order that nothing names now that it has ended.
-- name: ForgetSecrets :exec
DELETE FROM secret WHERE order_id = @order_id AND NOT name = ANY(@used::text[]);

-- Those typed in orders that were dropped long ago.
-- name: ForgetDroppedSecrets :exec
DELETE FROM secret s USING work_order o WHERE o.id = s.order_id AND o.state = 'dropped' AND o.closed_at < now() - interval '30 days';

-- name: SecretNamed :one
SELECT sealed, goes_to FROM secret WHERE site_id = $1 AND name = $2;

-- name: CountSecrets :one
SELECT (SELECT count(*) FROM secret) + (SELECT count(*) FROM device_access) + (SELECT count(*) FROM credential) AS n;

-- name: OneSecret :one
SELECT secret FROM device_access UNION ALL SELECT sealed FROM secret UNION ALL SELECT secret FROM credential LIMIT 1;

-- name: ForgetAllSecrets :exec
WITH gone AS (DELETE FROM secret), shared AS (DELETE FROM credential) DELETE FROM device_access;

-- name: NeighborPrefixes :many
SELECT s.id AS site_id, s.name AS site, p.part, p.name, p.prefix FROM site_prefix p JOIN site s ON s.id = p.site_id
WHERE s.customer = @customer AND s.id <> @but ORDER BY s.name, s.id, p.prefix;

-- name: SightingsOfSite :many
SELECT * FROM sighting WHERE site_id = $1 ORDER BY address;

-- name: Notify :exec
SELECT pg_notify('lithos', @payload::text);

-- name: PushesByState :many
SELECT state, count(*) AS n FROM push WHERE state NOT IN ('landed', 'failed') GROUP BY state;
