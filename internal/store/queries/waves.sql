-- name: PutWave :execrows
INSERT INTO wave (lead, sizes, together, state, started_by) VALUES (@lead, @sizes, @together, 'running', @started_by)
ON CONFLICT (lead) DO UPDATE SET number = 0, sizes = excluded.sizes, together = excluded.together, state = 'running', problem = '',
    started_by = excluded.started_by, started_at = now(), ended_at = NULL
WHERE wave.state <> 'running';

-- name: ForgetWaveOrders :exec
DELETE FROM wave_order WHERE lead = $1;

-- name: PutWaveOrder :exec
INSERT INTO wave_order (order_id, lead, number) VALUES (@order_id, @lead, @number);

-- name: WaveOf :one
SELECT w.*, t.full_name AS starter FROM wave w JOIN technician t ON t.id = w.started_by WHERE w.lead = $1;

-- name: WavesRunning :many
SELECT lead FROM wave WHERE state = 'running' ORDER BY lead;

-- name: LockWave :one
SELECT * FROM wave WHERE lead = $1 AND state = 'running' FOR UPDATE;

-- name: WaveOrders :many
SELECT w.order_id, w.number, w.push_id, o.state, o.version, s.name AS site, coalesce(p.state, '')::text AS push, coalesce(p.problem, '')::text AS problem
FROM wave_order w JOIN work_order o ON o.id = w.order_id JOIN site s ON s.id = o.site_id LEFT JOIN push p ON p.id = w.push_id
WHERE w.lead = $1 ORDER BY w.number, w.order_id;

-- name: SetWavePush :exec
UPDATE wave_order SET push_id = @push_id::bigint WHERE order_id = @order_id;

-- name: SetWaveNumber :exec
UPDATE wave SET number = @number WHERE lead = @lead;

-- name: EndWave :execrows
UPDATE wave SET state = @state, problem = @problem, ended_at = now() WHERE lead = @lead AND state = 'running';

-- name: SetTogether :exec
UPDATE push SET together = @lead::bigint WHERE id = @id;

-- Why waves wait; no row where that is said already.
-- name: NoteWave :execrows
UPDATE wave SET problem = @problem WHERE lead = @lead AND state = 'running' AND problem <> @problem;

-- name: UnfinishedTogether :many
SELECT id FROM push WHERE together = @lead AND id <> @push AND finished_at IS NULL ORDER BY id;
