"""Backups: one file with the records and every key, made while the service runs, checked after it is written.

A backup is a tar file: the database, the keys, the ledger's head as it was, and a manifest with the SHA-256 of each.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import tarfile
import tempfile
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct

from doorstone.store import ledger as ledger_store
from doorstone.store.database import DamagedError, Database, copy_records
from doorstone.store.keys import KEYS
from doorstone.store.ledger_head import LEDGER_HEAD
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import record
from doorstone.work.context.clock import SystemClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, RefusedError

__all__ = ["Backup", "DamagedError", "make_backup", "restore_backup"]
RECORDS = "doorstone.db"
MANIFEST = "manifest.json"
_LARGEST_MANIFEST = 1 << 20


class Backup(Struct, frozen=True):
    """What is in a backup: its files with their SHA-256, and the ledger's head as number:hash."""

    files: Mapping[str, str]
    entries: int
    head: str


def make_backup(data: Path, into: Path, *, dry: bool = False) -> Backup:
    """Write a backup of a data folder, also while a service works there; `dry` makes and checks it, and keeps nothing.

    Raises `BadInputError`, `RefusedError`, `DamagedError`.
    """
    if not (data / RECORDS).exists():
        raise BadInputError(f"There are no records in {data}", "Name the folder that holds doorstone.db")
    if into.exists():
        raise RefusedError(f"{into} is there already", "Choose another name; nothing is written over")
    with tempfile.TemporaryDirectory(prefix="doorstone-backup-", dir=into.absolute().parent) as scratch:
        folder = Path(scratch)
        copy_records(data / RECORDS, folder / RECORDS)
        for name in KEYS:
            if (data / name).exists():
                (folder / name).write_bytes((data / name).read_bytes())
        copied = Database(folder / RECORDS, existing=True)
        try:
            head = _checked(copied)
        finally:
            copied.close()
        names = [RECORDS, LEDGER_HEAD, *(name for name in KEYS if (folder / name).exists())]
        backup = Backup({name: _digest(folder / name) for name in names}, *head)
        part = folder / "backup.part"
        _write_tar(part, folder, backup)
        _read_manifest(part)  # and every digest in it
        if not dry:
            part.replace(into)
    return backup


def _checked(database: Database) -> tuple[int, str]:
    """The number of entries and the head of records that hold. Raises `DamagedError`."""
    database.check()
    with database.read() as db:
        faults = list(ledger_store.faults(db))
        if faults:
            raise DamagedError(f"The ledger does not hold: {faults[0]}")
        return ledger_store.last_seq(db), ledger_store.head(db)


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _write_tar(path: Path, folder: Path, backup: Backup) -> None:
    manifest = json.dumps({"format": 1, "files": dict(backup.files), "entries": backup.entries, "head": backup.head})
    with path.open("xb") as file:
        path.chmod(0o600)
        with tarfile.open(fileobj=file, mode="w") as tar:
            info = tarfile.TarInfo(MANIFEST)
            info.size = len(manifest)
            tar.addfile(info, io.BytesIO(manifest.encode()))
            for name in backup.files:
                tar.add(folder / name, name)
        file.flush()
        os.fsync(file.fileno())


def _read_manifest(path: Path, into: Path | None = None) -> Backup:
    """Check every file of a backup against its manifest, and write them `into` a folder. Raises `BadInputError`."""
    hint = "Use a file that 'doorstone backup' has written"
    try:
        with tarfile.open(path, "r:") as tar:
            first = tar.next()
            if first is None or first.name != MANIFEST or first.size > _LARGEST_MANIFEST:
                raise BadInputError(f"{path} is no backup", hint)
            held = tar.extractfile(first)
            assert held is not None
            manifest = json.loads(held.read())
            files = {str(name): str(digest) for name, digest in manifest["files"].items()}
            backup = Backup(files, int(manifest["entries"]), str(manifest["head"]))
            if set(files) - {RECORDS, LEDGER_HEAD, *KEYS} or RECORDS not in files:
                raise BadInputError(f"{path} holds other files than a backup does", hint)
            seen = set()
            while (info := tar.next()) is not None:
                if not info.isfile() or info.name not in files or info.name in seen:
                    raise BadInputError(f"{path} holds {info.name!r}, which its manifest does not name", hint)
                seen.add(info.name)
                source = tar.extractfile(info)
                assert source is not None
                digest = hashlib.sha256()
                target = (into / info.name).open("xb") if into else None
                try:
                    while piece := source.read(1 << 20):
                        digest.update(piece)
                        if target:
                            target.write(piece)
                finally:
                    if target:
                        target.flush()
                        os.fsync(target.fileno())
                        target.close()
                        Path(target.name).chmod(0o600)
                if digest.hexdigest() != files[info.name]:
                    raise BadInputError(f"{info.name} in {path} is not what was backed up", "Use another backup")
    except (tarfile.TarError, OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise BadInputError(f"{path} cannot be read as a backup: {error}", hint) from error
    if missing := set(files) - seen:
        raise BadInputError(f"{', '.join(sorted(missing))} is missing in {path}", "Use another backup")
    return backup


def _nearest(folder: Path) -> Path:
    """The folder itself or, if it does not exist, the nearest folder above it that does."""
    return next(one for one in (folder, *folder.parents) if one.is_dir())


def restore_backup(path: Path, data: Path, *, dry: bool = False) -> Backup:
    """Make a data folder of a backup; `dry` makes it beside, checks it and throws it away.

    The ledger says that it was restored, and from which head.

    Raises `RefusedError` unless the folder is empty or not there, `BadInputError`, `DamagedError`.
    """
    if data.exists() and any(data.iterdir()):
        raise RefusedError(f"{data} is not empty", "Restore into a new folder; move the old one aside first")
    if not dry:
        data.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=f"{data.name}.restoring-", dir=_nearest(data.absolute().parent)) as scratch:
        folder = Path(scratch) / "data"
        folder.mkdir(mode=0o700)
        backup = _read_manifest(path, folder)
        database = Database(folder / RECORDS, existing=True)
        try:
            _checked(database)
            context = Context(database, SystemClock())
            local = Actor("local", "administrator", "local")
            with database.write() as db:
                body = {"head": backup.head, "entries": backup.entries, "file": path.name}
                record(context, db, local, "records restored", "backup", path.name, body)
        finally:
            database.close()
        if not dry:
            if data.exists():
                data.rmdir()
            folder.replace(data)
    return backup
