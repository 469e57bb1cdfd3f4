-- +goose Up
-- An account with its password that signs in at several devices of a customer.
CREATE TABLE credential (
    id      text PRIMARY KEY,
    account text NOT NULL,
    secret  bytea NOT NULL
);
-- The credential of a device; with none it has an account of its own.
ALTER TABLE device_access ADD COLUMN shared text NOT NULL DEFAULT '';
CREATE INDEX device_access_shared ON device_access (shared) WHERE shared <> '';

-- +goose Down
UPDATE device_access a SET account = c.account, secret = c.secret FROM credential c WHERE c.id = a.shared;
ALTER TABLE device_access DROP COLUMN shared;
DROP TABLE credential;
