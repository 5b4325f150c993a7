"""The database file: connections, transactions, migrations, and the key that seals the ledger's end."""

from __future__ import annotations

import contextlib
import errno
import hmac
import json
import os
import shutil
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from importlib import resources
from itertools import count
from pathlib import Path
from typing import Any

from doorstone.store import ledger, ledger_changes
from doorstone.store.keys import LEDGER_KEY, VAULT_KEY, key_file
from doorstone.store.ledger_head import LEDGER_HEAD, NO_ENTRY, Anchor, read_head, write_head
from doorstone.store.readings import content_migrations
from doorstone.store.vault import Vault

SEALED_SINCE, CHANGES_SINCE, CHANGES_HEAD_SINCE = 3, 11, 29
_CHANGES = {
    14: content_migrations.to_codes,
    23: content_migrations.to_packed,
    24: content_migrations.to_ordered_digests,
}
"""What steps of the schema change that SQL alone cannot."""
CACHE_KIB = 1024
WIDE_CACHE_KIB = 64 * 1024
LARGEST_WAL = 8 * 2**20
"""Bytes to which the write-ahead log is cut once all of it is in the records."""


class DamagedError(RuntimeError):
    """The records were damaged or replaced. The service refuses to treat them as new."""


class _UndoneError(Exception):
    pass


LEAST_ROOM = 1 << 20
"""Bytes. With less free, a failure to read or write is taken to come from the full disk."""


def has_no_room(error: BaseException, folder: Path) -> bool:
    """Whether a failure comes from a full disk, or from a quota that is used up."""
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return True
    if not isinstance(error, sqlite3.OperationalError):
        return False
    kind = (error.sqlite_errorcode or 0) & 0xFF
    if kind == sqlite3.SQLITE_FULL:
        return True
    return kind in (sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN) and shutil.disk_usage(folder).free < LEAST_ROOM


def ledger_key(database: Path, *, make: bool = True) -> bytes:
    """The key beside the database that seals the ledger's end: made once, readable by the owner only."""
    path = database.with_name(LEDGER_KEY)
    if not make:
        if not path.exists():
            raise DamagedError(f"{path} is missing: without it nobody can tell whether the ledger was changed")
        return path.read_bytes()
    return key_file(path)


class Database:
    """One SQLite file in WAL mode. Each thread has its own connection; writers take turns.

    The ledger's head is also kept in a file beside it, so that a log that was lost or an older copy is noticed, and in
    an `anchor` on another disk if one is named. With `existing`, nothing is made that is not there. Raises
    `DamagedError`.
    """

    def __init__(self, path: Path, *, existing: bool = False, anchor: Path | None = None) -> None:
        self.path = path
        self.anchor = Anchor(anchor) if anchor else None
        self._local = threading.local()
        self._turn = threading.Lock()
        self._serials = count(1)
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.vault = Vault(path.parent)
        new = _is_new(path, existing)
        if new:
            os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        with contextlib.suppress(PermissionError):
            path.chmod(0o600)  # records from before were readable by others
        self._key = ledger_key(path, make=new or not existing)
        self._sealing = hmac.new(self._key, None, "sha256")
        self._head = read_head(path)
        self.head_fault = ""
        """Why the head beside the records could not be replaced at the last change. Empty if it was."""
        self._begin_file(new=new)
        before = self._connection().execute("PRAGMA user_version").fetchone()[0]
        if 0 < before < newest_schema():
            self._keep_copy(before)
        migrate(self._connection())
        if before < CHANGES_SINCE:
            with self.write() as db:
                if 0 < before < SEALED_SINCE:
                    ledger.seal(db)
                ledger_changes.keep_all(db)
        elif before < CHANGES_HEAD_SINCE:
            with self.write() as db:
                ledger_changes.begin_head(db)
        if self._head is None and before < CHANGES_HEAD_SINCE:
            self._head = _head_of(self._connection())
            write_head(path, self._head)

    def check(self) -> None:
        """Check that the file is whole. Raises `DamagedError`."""
        found = [row[0] for row in self._connection().execute("PRAGMA quick_check(3)")]
        if found != ["ok"]:
            raise DamagedError(f"{self.path} is damaged: {'; '.join(found)}. Restore a backup: doorstone restore")

    def probe(self) -> None:
        """Read the ledger's end, and write a file beside the records.

        Raises `sqlite3.Error`, `OSError`, or `LedgerBrokenError`. A head that could not be written is tried again.
        """
        if self.head_fault:
            self._write_head()
        if self.head_fault:
            raise OSError(self.head_fault)
        with self.read() as db:
            if broken := next(ledger.head_faults(db), None):
                raise ledger.LedgerBrokenError(broken)
        probe = self.path.with_name(f"probe-{threading.get_ident()}")
        with probe.open("wb") as file:
            file.write(bytes(65536))
            file.flush()
            os.fsync(file.fileno())
        probe.unlink()

    def _begin_file(self, *, new: bool) -> None:
        """Set what the file itself keeps. Later connections need neither a lock nor room on the disk."""
        connection = self._connection()
        if new:
            connection.execute("PRAGMA auto_vacuum = INCREMENTAL")  # see `give_back`
        if connection.execute("PRAGMA journal_mode").fetchone()[0] != "wal":
            connection.execute("PRAGMA journal_mode = WAL")

    def _keep_copy(self, schema: int) -> None:
        """A copy of the records as they are before they are brought to a newer schema."""
        kept = self.path.with_name(f"{self.path.stem}.schema-{schema}.db")
        if not kept.exists():
            os.close(os.open(kept, os.O_WRONLY | os.O_CREAT, 0o600))
            with sqlite3.connect(kept) as target:
                self._connection().backup(target)
            target.close()

    def _connection(self) -> sqlite3.Connection:
        try:
            connection: sqlite3.Connection = self._local.connection
        except AttributeError:
            connection = sqlite3.connect(self.path, timeout=15, isolation_level=None)
            connection.row_factory = sqlite3.Row
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            connection.execute(f"PRAGMA cache_size = -{CACHE_KIB}")
            connection.execute("PRAGMA wal_autocheckpoint = 16000")
            connection.execute(f"PRAGMA journal_size_limit = {LARGEST_WAL}")
            connection.create_function("seal", 2, self._seal, deterministic=True)
            connection.create_function("sealed", 1, self._seal_of, deterministic=True)
            connection.create_function("noted", 3, self._note)
            connection.create_function("kept_heads", 0, self._kept_heads)
            connection.create_function("folded", 1, str.lower, deterministic=True)
            self._local.connection = connection
        return connection

    def _kept_heads(self) -> str:
        """The heads outside the records as JSON: `beside`, null if the file is missing, and the last one `anchored`."""
        return json.dumps({"beside": self._head, "anchored": self.anchor.last() if self.anchor else None})

    def write_anchor(self, at: str) -> None:
        """Append the head to the anchor, if there is one and the head is not its last. Raises `OSError`."""
        if self.anchor is not None:
            with self.read() as db:
                head = _head_of(db)
            self.anchor.add(at, head["seq"], head["hash"])

    def _seal(self, seq: int, digest: str) -> str:
        seal = self._seal_of(f"{seq} {digest}")
        if getattr(self._local, "writing", False):
            self._local.head = {"seq": seq, "hash": digest, "seal": seal}
        return seal

    def _seal_of(self, text: str) -> str:
        sealing = self._sealing.copy()
        sealing.update(text.encode())
        return sealing.hexdigest()

    def _note(self, seq: int, kind: str, name: str) -> int:
        """An entry was added: the state of its objects is kept at the end of the transaction."""
        self._local.noted.append((seq, kind, name))
        return seq

    @property
    def connection(self) -> sqlite3.Connection:
        """This thread's connection, for a single statement that reads and needs no transaction around it."""
        return self._connection()

    @contextmanager
    def wide(self) -> Iterator[None]:
        """Inside, this thread's connection has room for work on the whole fleet; the many that only read need little.

        References are not looked up row by row: rows written here point to rows of the same transaction, or to such as
        are never deleted. Not to be entered in a transaction.
        """
        connection = self._connection()
        connection.execute(f"PRAGMA cache_size = -{WIDE_CACHE_KIB}")
        connection.execute("PRAGMA foreign_keys = OFF")
        try:
            yield
        finally:
            connection.execute("PRAGMA foreign_keys = ON")
            connection.execute(f"PRAGMA cache_size = -{CACHE_KIB}")
            connection.execute("PRAGMA shrink_memory")

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
        """What this thread has read in its transaction and need not read again. None where it may still change."""
        return self._local.held if self.busy and not self._local.writing else None

    @property
    def writing_since(self) -> int:
        """A number for the transaction in which this thread writes; 0 outside of one."""
        return self._local.serial if self.writing else 0

    @contextmanager
    def only_reading(self) -> Iterator[None]:
        """Inside, this thread cannot begin a write: a call that only reads changes nothing, whatever the day."""
        before = self.reads_only
        self._local.reads_only = True
        try:
            yield
        finally:
            self._local.reads_only = before

    @property
    def reads_only(self) -> bool:
        return bool(getattr(self._local, "reads_only", False))

    def read(self) -> AbstractContextManager[sqlite3.Connection]:
        """One consistent view of the records; nothing may be written."""
        return nullcontext(self._connection()) if self.busy else self._transaction("BEGIN DEFERRED")

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """One use case: committed whole, or not at all. Inside a read there is no write: what was read may be old."""
        if self.reads_only:
            raise RuntimeError("a write was begun by somebody who only reads")
        if self.busy:
            if not self._local.writing:
                raise RuntimeError("a write was begun inside a read")
            yield self._connection()
            return
        with self._turn, self._transaction("BEGIN IMMEDIATE") as connection:
            yield connection

    @contextmanager
    def undone(self) -> Iterator[None]:
        """Inside, everything is done as usual, in one transaction that is taken back at the end."""
        with contextlib.suppress(_UndoneError), self.write():
            yield
            raise _UndoneError

    def give_back(self, pages: int) -> None:
        """Give at most so many pages that hold nothing any more back to the disk; nothing inside a transaction.

        Records that earlier versions made keep such pages, and use them again.
        """
        if not self.busy:
            with self._turn:
                self._connection().executescript(
                    f"PRAGMA incremental_vacuum({int(pages)})"
                )  # a page a step, to its end

    def copy(self, path: Path) -> Database:
        """A copy of the whole file, to try something on."""
        with sqlite3.connect(path) as target:
            self._connection().backup(target)
        target.close()
        path.with_name(LEDGER_KEY).write_bytes(self._key)
        with contextlib.suppress(FileNotFoundError):
            path.with_name(LEDGER_HEAD).write_bytes(self.path.with_name(LEDGER_HEAD).read_bytes())
        if self.path.with_name(VAULT_KEY).exists():
            path.with_name(VAULT_KEY).write_bytes(self.path.with_name(VAULT_KEY).read_bytes())
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
        self._local.head = None
        self._local.noted = []
        try:
            yield connection
            if self._local.noted:
                ledger_changes.keep(connection, self._local.noted)
            connection.execute("COMMIT")
        except BaseException:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise
        if self._local.writing:
            self._local.commits = self.commits + 1
        if self._local.head and self._local.head != self._head:
            self._head = self._local.head
            self._write_head()

    @property
    def commits(self) -> int:
        """How many transactions of this thread are in the records for good."""
        return int(getattr(self._local, "commits", 0))

    def _write_head(self) -> None:
        """Replace the head beside the records. What was committed stands, whatever becomes of this file."""
        try:
            write_head(self.path, self._head or NO_ENTRY)
            self.head_fault = ""
        except OSError as error:
            self.head_fault = f"{self.path.with_name(LEDGER_HEAD)} cannot be replaced: {error.strerror}"

    def close(self) -> None:
        """Close this thread's connection."""
        connection: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if connection is not None:
            connection.close()
            del self._local.connection


def _is_new(path: Path, existing: bool) -> bool:
    """Whether there are no records yet. Raises `DamagedError` where there were some."""
    if path.exists():
        with path.open("rb") as file:
            start = file.read(16)
        if start != b"SQLite format 3\0":
            what = "is empty" if not start else "is no database"
            raise DamagedError(f"{path} {what}. Restore a backup: doorstone restore FILE --data FOLDER")
        return False
    left = [name for name in (LEDGER_KEY, LEDGER_HEAD) if path.with_name(name).exists()]
    if existing or left:
        beside = f", though {left[0]} is there" if left else ""
        raise DamagedError(f"{path} is missing{beside}. Restore a backup: doorstone restore FILE --data FOLDER")
    return True


def copy_records(source: Path, target: Path) -> None:
    """Copy a database file that somebody may be writing to, with the ledger's head as the copy has it beside it."""
    os.close(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    held, copy = sqlite3.connect(f"file:{source}?mode=ro", uri=True, timeout=30), sqlite3.connect(target)
    try:
        held.backup(copy)
        head = _head_of(copy)
    finally:
        copy.close()
        held.close()
    write_head(target, head)


def _head_of(db: sqlite3.Connection) -> dict[str, Any]:
    """The head as the records have it."""
    row = db.execute("SELECT seq, hash, seal FROM ledger_head").fetchone()
    return dict(zip(NO_ENTRY, row or NO_ENTRY.values(), strict=True))


def _steps() -> list[tuple[int, Any]]:
    """The numbered steps of the schema."""
    return sorted(
        (int(entry.name[:4]), entry)
        for entry in resources.files("doorstone.store.migrations").iterdir()
        if entry.name.endswith(".sql")
    )


def newest_schema() -> int:
    return _steps()[-1][0]


def migrate(connection: sqlite3.Connection, last: int | None = None) -> int:
    """Bring the file to the newest schema, or to schema `last`, each numbered step in a transaction.

    Returns the schema's number.
    """
    steps = _steps()
    at = int(connection.execute("PRAGMA user_version").fetchone()[0])
    if at > steps[-1][0]:
        raise RuntimeError(f"The database has schema {at}, this program knows {steps[-1][0]}. Use a newer program.")
    content_migrations.migrating(connection)
    connection.execute("PRAGMA foreign_keys = OFF")  # a table that others point to may be made anew
    for number, entry in steps:
        if at < number <= (last or number):
            connection.executescript(f"BEGIN IMMEDIATE;\n{entry.read_text('utf-8')}")
            if change := _CHANGES.get(number):
                change(connection)
            connection.execute(f"PRAGMA user_version = {number}")
            connection.execute("COMMIT")
            at = number
    connection.execute("PRAGMA foreign_keys = ON")
    return at
