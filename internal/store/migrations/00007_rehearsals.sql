-- +goose Up
-- The clients of a rehearsal, a row each: a page of them is read at a time. A
-- rehearsal from before is run again.
DELETE FROM rehearsal;
CREATE TABLE rehearsal_client (
    order_id bigint NOT NULL REFERENCES work_order (id),
    seq      integer NOT NULL,
    moves    boolean NOT NULL,
    network  text NOT NULL,
    name     text NOT NULL,
    client   json NOT NULL,
    reply    bytea NOT NULL, -- as it would go over the wire; empty for none
    why      text NOT NULL,  -- the server's word on the reply
    accepts  integer NOT NULL, -- octets its client takes
    PRIMARY KEY (order_id, seq)
);
CREATE INDEX rehearsal_client_shown ON rehearsal_client (order_id, moves, network, name, seq);

-- +goose Down
DROP TABLE rehearsal_client;
