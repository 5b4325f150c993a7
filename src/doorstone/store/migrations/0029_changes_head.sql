-- The seal of all that entries changed: how many rows there are, the sum of their seals, and the last entry they belong to.
CREATE TABLE changes_head (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    seq INTEGER NOT NULL,
    hash TEXT NOT NULL,
    count INTEGER NOT NULL,
    total TEXT NOT NULL,
    seal TEXT NOT NULL
) STRICT;
