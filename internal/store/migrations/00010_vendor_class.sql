-- +goose Up
-- What the client of a lease sent as option 60, so that a rehearsal can send it, too.
ALTER TABLE sighting ADD COLUMN vendor_class text NOT NULL DEFAULT '';
-- A rehearsal tells more of each client, and the clients in the order in which it was made: one from
-- before is run again.
DELETE FROM rehearsal_client;
DELETE FROM rehearsal;
DROP INDEX rehearsal_client_shown;
CREATE INDEX rehearsal_client_shown ON rehearsal_client (order_id, moves, seq);

-- +goose Down
DROP INDEX rehearsal_client_shown;
CREATE INDEX rehearsal_client_shown ON rehearsal_client (order_id, moves, network, name, seq);
ALTER TABLE sighting DROP COLUMN vendor_class;
