-- A standard or customer that comes with a site is kept unless it is already.
-- name: AddLevel :exec
INSERT INTO kept_level (kind, id, doc) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING;

-- name: SetLevels :exec
UPDATE site SET standard_id = @standard_id, customer_id = @customer_id WHERE id = @id AND (standard_id, customer_id) IS DISTINCT FROM (@standard_id, @customer_id);

-- name: Levels :many
SELECT k.*, coalesce(t.full_name, '') AS changer FROM kept_level k LEFT JOIN technician t ON t.id = k.changed_by ORDER BY k.kind, k.doc ->> 'name', k.id;

-- name: LevelsOfSite :many
SELECT k.* FROM kept_level k JOIN site s ON s.id = @site_id AND (k.kind = 'standard' AND k.id = s.standard_id OR k.kind = 'customer' AND k.id = s.customer_id);

-- name: ChangeLevel :execrows
UPDATE kept_level SET doc = @doc, version = version + 1, changed_by = @by, changed_at = now() WHERE kind = @kind AND id = @id AND version = @version;

-- name: SitesOfLevel :many
SELECT s.id, s.code, s.name FROM site s WHERE s.archived_at IS NULL AND (@kind::text = 'standard' AND s.standard_id = @id OR @kind::text = 'customer' AND s.customer_id = @id)
ORDER BY s.name, s.id;

-- name: LookAgainAtLevel :exec
UPDATE site_standing f SET looked_at = '-infinity' FROM site s
WHERE s.id = f.site_id AND (@kind::text = 'standard' AND s.standard_id = @id OR @kind::text = 'customer' AND s.customer_id = @id);

-- name: LevelIsOthers :one
SELECT EXISTS (SELECT FROM site WHERE standard_id = @standard_id AND customer_id <> @customer_id AND archived_at IS NULL);
