-- name: PutTechnician :one
INSERT INTO technician (name, full_name, password_hash) VALUES ($1, $2, $3)
ON CONFLICT (name) DO UPDATE SET full_name = excluded.full_name, password_hash = excluded.password_hash
RETURNING id;

-- name: TechnicianByName :one
SELECT * FROM technician WHERE name = $1;

-- name: TechnicianByID :one
SELECT * FROM technician WHERE id = $1;

-- name: NoteFailedSignIn :exec
INSERT INTO sign_in_attempt (name, source) VALUES ($1, $2);

-- name: FailedSignIns :one
SELECT
    count(*) FILTER (WHERE a.name = @name) AS by_name,
    count(*) FILTER (WHERE a.source = @source) AS by_source
FROM sign_in_attempt a WHERE (a.name = @name OR a.source = @source) AND a.at > @since;

-- name: ForgetFailedSignIns :exec
DELETE FROM sign_in_attempt WHERE name = @name OR at < @before;
