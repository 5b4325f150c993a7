"""The files of an evidence pack that rooms of the job provide: the register, pages, accounts, uncovered devices."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import date, datetime
from enum import Enum
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.formats.safe_csv import csv_text
from doorstone.work.context.context import Context
from doorstone.work.context.errors import MissingError
from doorstone.work.exceptions import register
from doorstone.work.exceptions.uncovered import list_uncovered
from doorstone.work.ledger.evidence import EvidenceRequest, scope_of, seal_pack

_UNCOVERED = ("device", "site", "runs", "requirements", "since", "cause", "covered last by", "what ends it")


def evidence_pack(context: Context, request: EvidenceRequest) -> bytes:
    """The pack as a zip, of one state of the records. Raises `MissingError` or `BadInputError`."""
    with context.database.read():
        scope = scope_of(context, request)
        wanted = set(scope.exceptions)
        parts: dict[str, bytes] = {}
        rows = [row for row in register.rows(context) if row["exception"] in wanted]
        parts["register.csv"] = csv_text(register.COLUMNS, [list(row.values()) for row in rows]).encode()
        for row in rows:
            name = row["exception"]
            parts[f"exceptions/{name}.html"] = register.page(context, name, printed_at=f"{context.today()}")[0].encode()
            parts[f"exceptions/{name}.json"] = _json(register.whole(context, name))
        uncovered = [
            [one.row.id, one.row.site, one.release, one.found.requirements, one.found.since, one.found.cause,
             one.found.last, one.steps]
            for one in list_uncovered(context, set(scope.devices))
        ]  # fmt: skip
        parts["uncovered.csv"] = csv_text(_UNCOVERED, uncovered).encode()
        for device in scope.devices:
            try:
                account = asdict(register.account(context, device))
            except MissingError as error:  # no sheet describes it: nothing can be said of what it fails
                account = {"unknown": error.detail}
            parts[f"devices/{device}.json"] = _json({"account": account})
        return seal_pack(context, scope, parts)


def _json(data: Any) -> bytes:
    return (json.dumps(data, indent=1, ensure_ascii=False, default=_plain) + "\n").encode()


def _plain(value: object) -> object:
    if isinstance(value, Struct):
        return asdict(value)
    if isinstance(value, date | datetime):
        return value.isoformat()
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, Mapping):
        return dict(value)
    if isinstance(value, frozenset | set):
        return sorted(value)
    return str(value)
