-- name: OpenOrder :one
INSERT INTO work_order (site_id, title, ticket, base_revision, state, opened_by)
SELECT s.id, @title, @ticket, s.head, 'open', @opened_by FROM site s WHERE s.id = @site_id
RETURNING id;

-- name: SetLead :exec
UPDATE work_order SET lead = @lead::bigint WHERE id = @id;

-- The orders of an order over several sites, the first one first.
-- name: OrdersTogether :many
SELECT o.id, o.state, o.title, s.code, s.name AS site, coalesce(w.number, 0)::integer AS wave,
    coalesce((SELECT p.state FROM push p WHERE p.order_id = o.id ORDER BY p.id DESC LIMIT 1), '')::text AS push,
    coalesce((SELECT p.problem FROM push p WHERE p.order_id = o.id ORDER BY p.id DESC LIMIT 1), '')::text AS problem
FROM work_order o JOIN site s ON s.id = o.site_id LEFT JOIN wave_order w ON w.order_id = o.id
WHERE o.id = @lead::bigint OR o.lead = @lead::bigint ORDER BY o.id;

-- name: ListOrders :many
SELECT o.*, s.code, s.name AS site, t.full_name AS opener,
    (SELECT count(*) FROM work_order_step e WHERE e.order_id = o.id AND NOT e.undone) AS steps,
    CASE WHEN o.state <> 'open' THEN o.state
        WHEN o.waits_for IS NOT NULL THEN 'waiting'
        WHEN EXISTS (SELECT FROM rehearsal r WHERE r.order_id = o.id AND r.version = o.version) THEN 'rehearsed'
        WHEN EXISTS (SELECT FROM push p WHERE p.order_id = o.id AND p.state = 'failed') THEN 'returned'
        ELSE 'drafted' END::text AS stage
FROM work_order o JOIN site s ON s.id = o.site_id JOIN technician t ON t.id = o.opened_by
ORDER BY (o.state IN ('open', 'pushing')) DESC, o.id DESC LIMIT 200;

-- name: OrderByID :one
SELECT o.*, s.code, s.head, t.full_name AS opener, coalesce(r.version, -1)::integer AS rehearsed, coalesce(c.full_name, '') AS closer,
    coalesce(w.full_name, '') AS waiter, (SELECT count(*) FROM work_order_lost l WHERE l.order_id = o.id) AS lost
FROM work_order o JOIN site s ON s.id = o.site_id JOIN technician t ON t.id = o.opened_by LEFT JOIN rehearsal r ON r.order_id = o.id
LEFT JOIN technician c ON c.id = o.closed_by LEFT JOIN technician w ON w.id = o.waits_for
WHERE o.id = $1;

-- name: OpenOrdersOfSite :many
SELECT o.id, o.title, o.ticket, o.opened_at, t.full_name AS opener FROM work_order o JOIN technician t ON t.id = o.opened_by
WHERE o.site_id = $1 AND o.state IN ('open', 'pushing') ORDER BY o.id DESC;

-- name: TouchOrder :execrows
UPDATE work_order SET version = version + 1 WHERE id = @id AND version = @version AND state = 'open';

-- An order whose state changes no longer waits for its window.
-- name: SetOrderState :execrows
UPDATE work_order SET state = @state, waits_for = NULL,
    closed_at = CASE WHEN @state::text IN ('landed', 'dropped') THEN now() END,
    closed_by = CASE WHEN @state::text IN ('landed', 'dropped') THEN @by::bigint END
WHERE id = @id AND state = @expected;

-- name: SetOrderBase :exec
UPDATE work_order SET base_revision = @base_revision WHERE id = @id;

-- name: OrderSteps :many
SELECT e.seq, e.says, e.edits, e.put_back, e.undone, e.version, e.made_at, e.made_by AS by_id, t.full_name AS made_by, coalesce(u.full_name, '') AS undone_by
FROM work_order_step e JOIN technician t ON t.id = e.made_by LEFT JOIN technician u ON u.id = e.undone_by
WHERE e.order_id = $1 ORDER BY e.seq;

-- name: AddStep :exec
INSERT INTO work_order_step (order_id, seq, says, edits, put_back, version, made_by, made_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8);

-- One edit in one statement: the draft's version, what redo can no longer reach,
-- the step, and the word to browsers. It gives the site's newest revision, and no
-- row when another change came first.
-- name: TakeStep :one
WITH touched AS (
    UPDATE work_order o SET version = o.version + 1 WHERE o.id = @order_id AND o.version = @version AND o.state = 'open' RETURNING o.id, o.site_id, o.version
), gone AS (
    DELETE FROM work_order_step s USING touched WHERE s.order_id = touched.id AND s.undone
), added AS (
    INSERT INTO work_order_step (order_id, seq, says, edits, put_back, version, made_by, made_at)
    SELECT touched.id, @seq::integer, @says::text, @edits::json, @put_back::jsonb, touched.version, @made_by::bigint, @made_at::timestamptz FROM touched
)
SELECT s.head, pg_notify('lithos', @event::text)::text AS told FROM touched JOIN site s ON s.id = touched.site_id;

-- name: DropSteps :exec
DELETE FROM work_order_step WHERE order_id = $1;

-- name: MarkUndone :exec
UPDATE work_order_step SET undone = @undone, undone_by = CASE WHEN @undone THEN @by::bigint END WHERE order_id = @order_id AND seq = @seq;

-- name: PutRehearsal :exec
INSERT INTO rehearsal (order_id, version, report, made_by, plan) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (order_id) DO UPDATE SET version = excluded.version, report = excluded.report, made_by = excluded.made_by, plan = excluded.plan, made_at = now();

-- name: RehearsalOfOrder :one
SELECT r.version, r.report, r.plan, r.made_at, t.full_name AS made_by FROM rehearsal r JOIN technician t ON t.id = r.made_by WHERE r.order_id = $1;

-- name: ReopenOrder :execrows
UPDATE work_order SET state = 'open', version = version + 1, closed_at = NULL, closed_by = NULL
WHERE id = @id AND version = @version AND state = 'dropped';

-- name: LoseEdit :exec
INSERT INTO work_order_lost (order_id, seq, edit, says, why, made_by, made_on)
SELECT @order_id, (SELECT coalesce(max(seq), 0) + 1 FROM work_order_lost l WHERE l.order_id = @order_id), @edit, @says, @why, @made_by, @made_on;

-- name: LostEdits :many
SELECT l.seq, l.edit, l.says, l.why, l.made_on, l.made_by AS by_id, t.full_name AS made_by FROM work_order_lost l JOIN technician t ON t.id = l.made_by
WHERE l.order_id = $1 ORDER BY l.seq;

-- name: ForgetLost :execrows
DELETE FROM work_order_lost WHERE order_id = $1 AND seq = $2;

-- name: ForgetRehearsalClients :exec
DELETE FROM rehearsal_client WHERE order_id = $1;

-- name: PutRehearsalClients :copyfrom
INSERT INTO rehearsal_client (order_id, seq, moves, network, name, client, reply, why, accepts) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9);

-- name: RehearsalClients :many
SELECT seq, client, octet_length(reply)::integer AS size FROM rehearsal_client WHERE order_id = @order_id AND moves = @moves
ORDER BY seq LIMIT @most OFFSET @skip;

-- name: RehearsalReply :one
SELECT reply, why, accepts FROM rehearsal_client WHERE order_id = $1 AND seq = $2;

-- name: LastWorkedOn :one
SELECT o.id FROM work_order o LEFT JOIN work_order_step w ON w.order_id = o.id AND w.made_by = @technician
WHERE o.state IN ('open', 'pushing') AND (o.opened_by = @technician OR w.made_by = @technician)
GROUP BY o.id ORDER BY greatest(max(w.made_at), CASE WHEN o.opened_by = @technician THEN o.opened_at END) DESC LIMIT 1;
