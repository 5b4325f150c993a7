"""The database file: connections, transactions, migrations."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path


class Database:
    """One SQLite file in WAL mode. Each thread has its own connection; writers take turns."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        path.parent.mkdir(parents=True, exist_ok=True)
        migrate(self._connection())

    def _connection(self) -> sqlite3.Connection:
        connection: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if connection is None:
            connection = sqlite3.connect(self.path, timeout=15, isolation_level=None)
            connection.row_factory = sqlite3.Row
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            self._local.connection = connection
        return connection

    @contextmanager
    def read(self) -> Iterator[sqlite3.Connection]:
        """One consistent picture of the records; nothing may be written."""
        with self._transaction("BEGIN DEFERRED") as connection:
            yield connection

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """One use case: committed whole, or not at all."""
        with self._transaction("BEGIN IMMEDIATE") as connection:
            yield connection

    @contextmanager
    def _transaction(self, begin: str) -> Iterator[sqlite3.Connection]:
        connection = self._connection()
        if connection.in_transaction:
            yield connection
            return
        connection.execute(begin)
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
    for number, entry in steps:
        if number > at:
            script = entry.read_text("utf-8")
            connection.executescript(f"BEGIN IMMEDIATE;\n{script}\nPRAGMA user_version = {number};\nCOMMIT;")
            at = number
    return at
