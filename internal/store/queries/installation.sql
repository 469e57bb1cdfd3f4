-- name: ReadInstallation :one
SELECT * FROM installation;

-- name: PutInstallation :exec
INSERT INTO installation (identity) VALUES ($1) ON CONFLICT (one) DO NOTHING;

-- name: HoldWork :exec
UPDATE installation SET identity = @identity, held_since = coalesce(held_since, now()), held_because = @because;

-- name: ReleaseWork :execrows
UPDATE installation SET held_since = NULL, held_because = '' WHERE held_since IS NOT NULL;

-- name: SetKey :execrows
UPDATE installation SET key = @key WHERE key = @was;
