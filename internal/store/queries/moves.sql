-- name: OpenMove :one
INSERT INTO move (site_id, title, ticket, request, base_revision, facts, opened_by)
VALUES (@site_id, @title, @ticket, @request, @base_revision, @facts, @opened_by) RETURNING id;

-- name: PutPhase :exec
INSERT INTO move_phase (move_id, seq, kind, title, says, edits, proof, not_before, not_after, site_id, order_id, filled)
VALUES (@move_id, @seq, @kind, @title, @says, @edits, @proof, @not_before, @not_after, @site_id, @order_id, @filled);

-- name: PutVisit :exec
INSERT INTO move_visit (move_id, seq, visit) VALUES (@move_id, @seq, @visit);

-- name: MoveByID :one
SELECT m.*, s.code, s.name AS site, s.head, t.full_name AS opener FROM move m JOIN site s ON s.id = m.site_id JOIN technician t ON t.id = m.opened_by
WHERE m.id = $1;

-- name: MoveOfOrder :one
SELECT move_id, seq FROM move_phase WHERE order_id = $1;

-- name: PhasesOf :many
SELECT p.*, o.state, o.version, o.base_revision, s.head, s.code, s.name AS site,
    EXISTS (SELECT FROM rehearsal r WHERE r.order_id = o.id AND r.version = o.version) AS rehearsed,
    o.not_before AS opens, o.not_after AS closes, (o.waits_for IS NOT NULL)::boolean AS waits,
    EXISTS (SELECT FROM push u WHERE u.order_id = o.id AND u.state = 'failed') AS returned,
    (SELECT u.finished_at FROM push u WHERE u.order_id = o.id AND u.state = 'landed' ORDER BY u.id DESC LIMIT 1) AS landed_at
FROM move_phase p JOIN work_order o ON o.id = p.order_id JOIN site s ON s.id = p.site_id WHERE p.move_id = $1 ORDER BY p.seq;

-- name: PhaseFilled :execrows
UPDATE move_phase SET filled = true WHERE move_id = @move_id AND seq = @seq AND NOT filled;

-- name: VisitsOf :many
SELECT v.seq, v.visit, v.done_at, coalesce(t.full_name, '') AS done_by FROM move_visit v LEFT JOIN technician t ON t.id = v.done_by
WHERE v.move_id = $1 ORDER BY v.seq;

-- name: TickVisit :execrows
UPDATE move_visit SET done_by = @by, done_at = @at WHERE move_id = @move_id AND seq = @seq AND done_at IS NULL;

-- name: UntickVisit :execrows
UPDATE move_visit SET done_by = NULL, done_at = NULL WHERE move_id = @move_id AND seq = @seq;

-- name: EndMove :execrows
UPDATE move SET state = @state WHERE id = @id AND state = 'open';

-- name: ReopenMove :execrows
UPDATE move SET state = 'open' WHERE id = @id AND state IN ('open', 'done');

-- name: OpenMoves :many
SELECT m.id, m.site_id, m.title, m.state, m.opened_at, s.code, s.name AS site, t.full_name AS opener,
    (SELECT count(*) FROM move_phase p JOIN work_order o ON o.id = p.order_id WHERE p.move_id = m.id AND p.kind <> 'elsewhere') AS phases,
    (SELECT count(*) FROM move_phase p JOIN work_order o ON o.id = p.order_id WHERE p.move_id = m.id AND p.kind <> 'elsewhere' AND o.state = 'landed') AS landed,
    coalesce((SELECT o.not_before FROM move_phase p JOIN work_order o ON o.id = p.order_id WHERE p.move_id = m.id AND o.state = 'open' AND p.kind <> 'elsewhere' ORDER BY p.seq LIMIT 1), 'epoch')::timestamptz AS next,
    coalesce((SELECT p.title FROM move_phase p JOIN work_order o ON o.id = p.order_id WHERE p.move_id = m.id AND o.state = 'open' AND p.kind <> 'elsewhere' ORDER BY p.seq LIMIT 1), '')::text AS next_title
FROM move m JOIN site s ON s.id = m.site_id JOIN technician t ON t.id = m.opened_by
ORDER BY (m.state = 'open') DESC, m.id DESC LIMIT 200;

-- name: PhasesToFill :many
SELECT DISTINCT m.id FROM move m JOIN move_phase p ON p.move_id = m.id JOIN work_order o ON o.id = p.order_id JOIN site s ON s.id = p.site_id
WHERE m.state = 'open' AND (o.state = 'open' AND (NOT p.filled OR o.base_revision < s.head)
    OR p.kind = 'swap' AND o.state = 'landed' AND m.levels IS NULL OR NOT EXISTS (
    SELECT FROM move_phase q JOIN work_order w ON w.id = q.order_id WHERE q.move_id = m.id AND w.state IN ('open', 'pushing')));

-- What rules need of the moves of a customer, which may be long done: what names an old address is found then.
-- name: MovesOfCustomer :many
SELECT m.id, m.site_id, m.title, m.state, m.facts,
    EXISTS (SELECT FROM move_phase p JOIN work_order o ON o.id = p.order_id WHERE p.move_id = m.id AND p.kind = 'swap' AND o.state = 'landed') AS swapped,
    coalesce((SELECT p.title || ' should have been landed by ' || to_char(o.not_after AT TIME ZONE 'UTC', 'FMDD FMMonth HH24:MI') || ' UTC'
        FROM move_phase p JOIN work_order o ON o.id = p.order_id
        WHERE p.move_id = m.id AND o.state = 'open' AND o.not_after < now() ORDER BY p.seq LIMIT 1), '')::text AS overdue
FROM move m JOIN site s ON s.id = m.site_id
WHERE m.state IN ('open', 'done') AND s.customer = @customer::text ORDER BY m.id;

-- name: SitesOfCustomer :many
SELECT id, head FROM site WHERE customer = @customer AND id <> @but AND archived_at IS NULL ORDER BY name, id;

-- One move of a network at a time: whoever begins one holds the site's row meanwhile.
-- name: LockSite :one
SELECT head FROM site WHERE id = $1 FOR UPDATE;

-- name: MovesUnderWay :many
SELECT id, title, facts FROM move WHERE site_id = $1 AND state = 'open';

-- Whoever changes what is kept for all sites holds the move's row until that is done; another finds that it is.
-- name: ClaimMoveLevels :execrows
UPDATE move SET levels = '[]' WHERE id = @id AND levels IS NOT DISTINCT FROM sqlc.narg('was')::jsonb;

-- name: NoteMoveLevels :exec
UPDATE move SET levels = @levels WHERE id = @id;

-- name: SetMoveOpener :execrows
UPDATE move SET opened_by = @by WHERE id = @id AND state = 'open';
