-- The accounts that devices of a customer are reached with; an account of several devices is there once a device.
-- name: AccountsOfCustomer :many
SELECT a.site_id, a.device_id, a.shared, coalesce(k.account, a.account) AS account, s.name AS site
FROM device_access a JOIN site s ON s.id = a.site_id LEFT JOIN credential k ON k.id = a.shared
WHERE s.customer_id = @customer_id ORDER BY s.name, a.device_id;

-- What a device signs in with becomes one that others can use, unless it is already.
-- name: ShareAccess :one
WITH own AS (SELECT account, secret FROM device_access a WHERE a.site_id = @site_id AND a.device_id = @device_id AND a.shared = ''), made AS (
    INSERT INTO credential (id, account, secret) SELECT @id::text, account, secret FROM own
)
UPDATE device_access a SET shared = CASE WHEN a.shared = '' THEN @id::text ELSE a.shared END
WHERE a.site_id = @site_id AND a.device_id = @device_id RETURNING a.shared;

-- name: ChangeCredential :exec
UPDATE credential SET account = @account, secret = @secret WHERE id = @id;

-- name: AccessOfCredential :many
SELECT a.site_id, a.device_id, a.url, a.fingerprint, s.name AS site FROM device_access a JOIN site s ON s.id = a.site_id
WHERE a.shared = @shared ORDER BY s.name, a.device_id;

-- name: ForgetUnusedCredentials :exec
DELETE FROM credential c WHERE NOT EXISTS (SELECT FROM device_access a WHERE a.shared = c.id);

-- Devices of other sites at the same address and with the same certificate as those of a site.
-- name: DevicesElsewhere :many
SELECT a.device_id, s.name AS site, coalesce(jsonb_path_query_first(r.doc, '$.devices[*] ? (@.id == $id).name',
    jsonb_build_object('id', b.device_id)) #>> '{}', b.device_id)::text AS name
FROM device_access a
JOIN device_access b ON b.url = a.url AND b.fingerprint = a.fingerprint AND b.site_id <> a.site_id
JOIN site s ON s.id = b.site_id
JOIN site_revision r ON r.site_id = s.id AND r.revision = s.head WHERE a.site_id = @site_id ORDER BY a.device_id, s.name;

-- name: DevicesAt :many
SELECT b.device_id, s.id AS site_id, s.name AS site, s.customer FROM device_access b JOIN site s ON s.id = b.site_id
WHERE b.url = @url AND b.fingerprint = @fingerprint ORDER BY s.name, b.device_id;
