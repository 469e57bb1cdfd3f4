-- name: SetWindow :execrows
UPDATE work_order SET note = @note, not_before = @not_before, not_after = @not_after, waits_for = NULL, waited = '' WHERE id = @id AND state = 'open';

-- name: SetWaiting :execrows
UPDATE work_order SET waits_for = @by, waited = '' WHERE id = @id AND state = 'open' AND version = @version;

-- The orders whose window has opened and that somebody has left to start by themselves.
-- name: OrdersToStart :many
SELECT id, version, waits_for, not_before, not_after FROM work_order WHERE waits_for IS NOT NULL AND state = 'open' AND not_before <= now() ORDER BY not_before, id LIMIT 50;

-- An order waits no more: it has started, or says why it did not.
-- name: EndWaiting :execrows
UPDATE work_order SET waits_for = NULL, waited = @waited WHERE id = @id AND waits_for IS NOT NULL;

-- Why an order goes on waiting; no row where it says so already.
-- name: NoteWaiting :execrows
UPDATE work_order SET waited = @waited WHERE id = @id AND waits_for IS NOT NULL AND waited <> @waited;
