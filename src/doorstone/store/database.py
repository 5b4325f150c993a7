"""The database file: connections, transactions, migrations, and the key that seals the ledger's end."""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from itertools import count
from pathlib import Path
from typing import Any

from doorstone.store import ledger, said

SEALED_SINCE = 3
CACHE_KIB = 4 * 1024
LEDGER_KEY = "ledger.key"


def ledger_key(database: Path) -> bytes:
    """The key beside the database that seals the ledger's end: made once, readable by the owner only."""
    path = database.with_name(LEDGER_KEY)
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        return path.read_bytes()
    with os.fdopen(handle, "wb") as file:
        file.write(secrets.token_bytes(32))
    return path.read_bytes()


class Database:
    """One SQLite file in WAL mode. Each thread has its own connection; writers take turns."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        self._turn = threading.Lock()
        self._serials = count(1)
        path.parent.mkdir(parents=True, exist_ok=True)
        self._key = ledger_key(path)
        before = self._connection().execute("PRAGMA user_version").fetchone()[0]
        migrate(self._connection())
        if 0 < before < SEALED_SINCE:
            with self.write() as db:
                ledger.seal(db)

    def _connection(self) -> sqlite3.Connection:
        connection: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if connection is None:
            connection = sqlite3.connect(self.path, timeout=15, isolation_level=None)
            connection.row_factory = sqlite3.Row
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            connection.execute(f"PRAGMA cache_size = -{CACHE_KIB}")
            connection.execute("PRAGMA wal_autocheckpoint = 16000")
            connection.create_function("seal", 2, self._seal, deterministic=True)
            connection.create_function("folded", 1, str.lower, deterministic=True)
            self._local.connection = connection
        return connection

    def _seal(self, seq: int, digest: str) -> str:
        return hmac.new(self._key, f"{seq} {digest}".encode(), hashlib.sha256).hexdigest()

    @property
    def connection(self) -> sqlite3.Connection:
        """This thread's connection, for a single statement that reads: it needs no transaction around it."""
        return self._connection()

    def widen(self) -> None:
        """Give this thread's connection room for work on the whole fleet; the many that only read need little."""
        self._connection().execute(f"PRAGMA cache_size = -{16 * CACHE_KIB}")

    @property
    def busy(self) -> bool:
        """Whether this thread is inside a transaction: what it sees may still be undone."""
        return self._connection().in_transaction

    @property
    def writing(self) -> bool:
        """Whether this thread is inside a transaction that may have written."""
        return self.busy and bool(self._local.writing)

    @property
    def held(self) -> dict[str, Any] | None:
        """What this thread has read in its transaction and need not read again; None where it may change meanwhile."""
        return self._local.held if self.busy and not self._local.writing else None

    @property
    def writing_since(self) -> int:
        """A number of its own for the transaction that this thread writes in, 0 outside of one."""
        return self._local.serial if self.writing else 0

    @contextmanager
    def read(self) -> Iterator[sqlite3.Connection]:
        """One consistent picture of the records; nothing may be written."""
        with self._transaction("BEGIN DEFERRED") as connection:
            yield connection

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """One use case: committed whole, or not at all. Inside a read there is no write: what was read may be old."""
        if self.busy:
            if not self._local.writing:
                raise RuntimeError("a write was begun inside a read")
            yield self._connection()
            return
        with self._turn, self._transaction("BEGIN IMMEDIATE") as connection:
            yield connection

    def copy(self, path: Path) -> Database:
        """A copy of the whole file, to try something on."""
        with sqlite3.connect(path) as target:
            self._connection().backup(target)
        target.close()
        path.with_name(LEDGER_KEY).write_bytes(self._key)
        return Database(path)

    @contextmanager
    def _transaction(self, begin: str) -> Iterator[sqlite3.Connection]:
        connection = self._connection()
        if connection.in_transaction:
            yield connection
            return
        connection.execute(begin)
        self._local.writing = begin == "BEGIN IMMEDIATE"
        self._local.serial = next(self._serials)
        self._local.held = {}
        try:
            yield connection
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")

    def close(self) -> None:
        """Close this thread's connection."""
        connection: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if connection is not None:
            connection.close()
            self._local.connection = None


def migrate(connection: sqlite3.Connection) -> int:
    """Bring the file to the newest schema, each numbered step in a transaction. Returns the schema's number."""
    steps = sorted(
        (int(entry.name[:4]), entry)
        for entry in resources.files("doorstone.store.migrations").iterdir()
        if entry.name.endswith(".sql")
    )
    at = int(connection.execute("PRAGMA user_version").fetchone()[0])
    if at > steps[-1][0]:
        raise RuntimeError(f"The database has schema {at}, this program knows {steps[-1][0]}. Use a newer program.")
    said.migrating(connection)
    connection.execute("PRAGMA foreign_keys = OFF")  # a table that others point to may be made anew
    for number, entry in steps:
        if number > at:
            script = entry.read_text("utf-8")
            connection.executescript(f"BEGIN IMMEDIATE;\n{script}\nPRAGMA user_version = {number};\nCOMMIT;")
            at = number
    connection.execute("PRAGMA foreign_keys = ON")
    return at
