"""Records in SQLite: plain SQL, numbered migrations, one module per aggregate. No decision is taken here."""
