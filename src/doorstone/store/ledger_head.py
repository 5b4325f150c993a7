"""The ledger's head outside the records: in a file beside them, and in an anchor elsewhere.

Both say which entry was the last one at a time. Records that do not have that entry are older, or were cut.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections import deque
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

LEDGER_HEAD = "ledger.head"
NO_ENTRY: Mapping[str, Any] = {"seq": 0, "hash": "", "seal": ""}
"""The head of a ledger without entries."""


def read_head(records: Path) -> dict[str, Any] | None:
    """The last head that was written beside the records: `seq`, `hash`, `seal`. None if there is none.

    One that cannot be read has the number -1, which no entry has.
    """
    try:
        found = json.loads(records.with_name(LEDGER_HEAD).read_text("utf-8"))
        if found == {}:  # as copies of an empty ledger once had it
            return dict(NO_ENTRY)
        return {"seq": int(found["seq"]), "hash": str(found["hash"]), "seal": str(found["seal"])}
    except FileNotFoundError:
        return None
    except (ValueError, KeyError, TypeError):
        return {"seq": -1, "hash": "", "seal": ""}


def write_head(records: Path, head: Mapping[str, Any]) -> None:
    """Replace the head beside the records. This comes after the commit: at worst the head is older than the records."""
    part = records.with_name(f"{LEDGER_HEAD}.part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(dict(head), file)
    part.replace(records.with_name(LEDGER_HEAD))


class Anchor:
    """A file on another disk to which heads are appended, a line each: time, and number:hash."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._last: tuple[int, str] | None = None

    def heads(self) -> Iterator[tuple[int, str]]:
        """Number and hash of each head, oldest first. A line that cannot be read has the number -1."""
        with contextlib.suppress(FileNotFoundError), self.path.open(encoding="utf-8", errors="replace") as file:
            for line in file:
                if line.strip():
                    seq, _, digest = line.split()[-1].partition(":")
                    yield (int(seq), digest) if seq.isdecimal() and len(digest) == 64 else (-1, "")

    def last(self) -> tuple[int, str] | None:
        """The newest head; None if there is none yet."""
        if self._last is None:
            heads = deque(self.heads(), maxlen=1)
            self._last = heads[0] if heads else None
        return self._last

    def add(self, at: str, seq: int, digest: str) -> bool:
        """Append a head unless it is the last one. Returns whether it was. Raises `OSError`."""
        if seq == 0 or self.last() == (seq, digest):
            return False
        handle = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        with os.fdopen(handle, "a") as file:
            file.write(f"{at} {seq}:{digest}\n")
            file.flush()
            os.fsync(file.fileno())
        self._last = (seq, digest)
        return True
