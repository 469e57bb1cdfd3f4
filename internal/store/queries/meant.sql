-- name: MeantOfSite :many
SELECT m.finding, m.facts, m.reason, m.until, m.said_at, t.full_name AS by FROM finding_meant m
JOIN technician t ON t.id = m.said_by WHERE m.site_id = @site_id ORDER BY m.said_at, m.finding;

-- name: PutMeant :exec
INSERT INTO finding_meant (site_id, finding, facts, title, reason, until, said_by)
VALUES (@site_id, @finding, @facts, @title, @reason, @until, @said_by)
ON CONFLICT (site_id, finding) DO UPDATE SET facts = excluded.facts, title = excluded.title, reason = excluded.reason,
    until = excluded.until, said_by = excluded.said_by, said_at = now();

-- name: DropMeant :one
DELETE FROM finding_meant WHERE site_id = @site_id AND finding = @finding RETURNING title;
