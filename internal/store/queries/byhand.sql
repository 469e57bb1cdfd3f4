-- name: PutHand :exec
INSERT INTO push_hand (push_id, seq, device_id, name, part, says, why, step, expect)
SELECT @push_id, (SELECT count(*) FROM push_hand h WHERE h.push_id = @push_id), @device_id, @name, @part, @says, @why, @step, @expect;

-- name: Hand :many
SELECT h.*, coalesce(t.full_name, '') AS doer FROM push_hand h LEFT JOIN technician t ON t.id = h.done_by
WHERE h.push_id = $1 ORDER BY h.seq;

-- A line is ticked while its push waits for it, or, of what is to be put back, when that has ended.
-- name: TickHand :execrows
UPDATE push_hand h SET done_by = @by::bigint, done_at = now(), answer = @answer FROM push p
WHERE p.id = h.push_id AND p.id = @push_id AND h.seq = @seq AND h.done_at IS NULL
AND CASE h.part WHEN 'back' THEN p.state = 'failed' ELSE p.state = 'byhand' END;

-- name: AnswerHand :execrows
UPDATE push_hand h SET answer = @answer FROM push p
WHERE p.id = h.push_id AND p.id = @push_id AND h.seq = @seq AND h.done_at IS NULL AND p.state = 'byhand';

-- name: UntickHand :execrows
UPDATE push_hand h SET done_by = NULL, done_at = NULL, answer = '' FROM push p
WHERE p.id = h.push_id AND p.id = @push_id AND h.seq = @seq AND h.done_at IS NOT NULL
AND CASE h.part WHEN 'back' THEN p.state = 'failed' ELSE p.state = 'byhand' END;

-- A push whose lines are all ticked goes on, and one that is told to stop does.
-- name: HandDone :execrows
UPDATE push p SET state = 'queued', ready_at = now() WHERE p.id = @id AND p.state = 'byhand'
AND (p.stopped_by IS NOT NULL OR NOT EXISTS
    (SELECT FROM push_hand h WHERE h.push_id = p.id AND h.part <> 'back' AND h.done_at IS NULL));

-- name: StopPush :execrows
UPDATE push SET stopped_by = @by::bigint WHERE id = @id AND stopped_by IS NULL AND state IN ('queued', 'byhand', 'running', 'confirming');

-- Who has told a push to stop; nobody where that is null.
-- name: Stopper :one
SELECT coalesce(t.full_name, '') AS name FROM push p LEFT JOIN technician t ON t.id = p.stopped_by WHERE p.id = $1;

-- name: SetPushSpan :exec
UPDATE push SET lines = (SELECT count(*) FROM push_journal j WHERE j.push_id = push.id) + @more::integer, returns_at = @returns_at WHERE id = @id AND held_by = @run;

-- How long a step took in the pushes of a site that landed, in milliseconds; 0 where none has.
-- name: Pace :one
SELECT coalesce(avg(took), 0)::double precision AS ms FROM (
    SELECT extract(epoch FROM max(j.at) - min(j.at)) * 1000 / (count(*) - 1) AS took
    FROM push p JOIN push_journal j ON j.push_id = p.id
    WHERE p.site_id = @site_id AND p.state = 'landed' AND j.stage = 'step'
    GROUP BY p.id HAVING count(*) > 1 ORDER BY p.id DESC LIMIT 5) recent;

-- name: MoveAccess :exec
UPDATE device_access SET url = @url WHERE site_id = @site_id AND device_id = @device_id;
