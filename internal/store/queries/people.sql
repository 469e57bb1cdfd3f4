-- name: PutTechnician :one
INSERT INTO technician (name, full_name, password_hash) VALUES ($1, $2, $3)
ON CONFLICT (name) DO UPDATE SET full_name = excluded.full_name, password_hash = excluded.password_hash
RETURNING id, (xmax = 0)::boolean AS made;

-- name: TechnicianByName :one
SELECT * FROM technician WHERE name = $1;

-- name: TechnicianByID :one
SELECT * FROM technician WHERE id = $1;

-- An attempt is counted before its password is looked at. The lock keeps attempts
-- at one name from overlooking each other.
-- name: LockSignIns :exec
SELECT pg_advisory_xact_lock(4472, least(hashtext(@name), hashtext(@source))), pg_advisory_xact_lock(4472, greatest(hashtext(@name), hashtext(@source)));

-- name: CountSignIn :one
INSERT INTO sign_in_attempt (name, source, browser) VALUES (@name, @source, @browser) RETURNING id;

-- name: UncountSignIn :exec
DELETE FROM sign_in_attempt WHERE id = $1;

-- name: SignInsSince :one
SELECT
    count(*) FILTER (WHERE a.name = @name) AS by_name,
    count(*) FILTER (WHERE a.source = @source) AS by_source,
    count(*) FILTER (WHERE a.name = @name AND a.source = @source AND a.browser = '') AS by_both,
    count(*) FILTER (WHERE a.name = @name AND a.browser = @browser AND a.browser <> '') AS by_browser
FROM sign_in_attempt a WHERE (a.name = @name OR a.source = @source) AND a.at > @since;

-- The right password makes up for the attempts of its browser, or of its name and source.
-- name: ForgetSignIns :exec
DELETE FROM sign_in_attempt WHERE (name = @name AND (source = @source OR browser = @browser AND browser <> '')) OR at < @before;

-- name: TechnicianOfBrowser :one
SELECT t.name FROM known_browser b JOIN technician t ON t.id = b.technician_id WHERE b.token = @token AND t.name = @name;

-- name: KnowBrowser :exec
INSERT INTO known_browser (token, technician_id) VALUES ($1, $2) ON CONFLICT (token, technician_id) DO UPDATE SET last_at = now();

-- name: ForgetBrowsers :exec
DELETE FROM known_browser WHERE last_at < now() - interval '180 days';

-- name: SessionTechnician :one
SELECT t.id, t.name, t.full_name, s.expires_at FROM session s JOIN technician t ON t.id = s.technician_id
WHERE s.token = $1 AND s.expires_at > now() AND t.off_at IS NULL;

-- name: StartSession :execrows
INSERT INTO session (token, technician_id, expires_at, source, agent)
SELECT @token, t.id, @expires_at, @source, @agent FROM technician t WHERE t.id = @technician_id AND t.off_at IS NULL AND md5(t.password_hash) = @stamp::text;

-- name: EndSession :execrows
DELETE FROM session WHERE token = $1;

-- name: EndSessions :execrows
DELETE FROM session WHERE technician_id = $1;

-- name: ForgetSessions :exec
DELETE FROM session WHERE expires_at < now();

-- name: ListSessions :many
SELECT t.name, s.started_at, s.expires_at, s.source, s.agent FROM session s JOIN technician t ON t.id = s.technician_id
WHERE s.expires_at > now() AND (@name::text = '' OR t.name = @name) ORDER BY t.name, s.started_at;

-- name: ListTechnicians :many
SELECT t.name, t.full_name, t.off_at, (SELECT count(*) FROM session s WHERE s.technician_id = t.id AND s.expires_at > now()) AS sessions
FROM technician t ORDER BY t.name;

-- name: SwitchTechnician :one
UPDATE technician SET off_at = CASE WHEN @off::boolean THEN coalesce(off_at, now()) END WHERE name = @name RETURNING *;

-- name: WriteAudit :exec
INSERT INTO audit (technician_id, who, source, act, about, says)
VALUES (nullif(@technician_id::bigint, 0), @who, @source, @act, @about, @says);

-- name: ListAudit :many
SELECT * FROM audit WHERE at >= @since AND (@act::text = '' OR act = @act) AND (@about::text = '' OR about = @about) AND (@who::text = '' OR who ILIKE '%' || @who || '%')
ORDER BY id DESC LIMIT @most;
