"""Key files beside the records: each made once, whole, readable by the owner only."""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable
from pathlib import Path

LEDGER_KEY = "ledger.key"
VAULT_KEY = "records.key"
KIT_KEY = "kit.key"
SESSION_KEY = "session.key"
KEYS = (LEDGER_KEY, VAULT_KEY, KIT_KEY, SESSION_KEY)


def key_file(path: Path, make: Callable[[], bytes] = lambda: secrets.token_bytes(32)) -> bytes:
    """The key in a file, made at first use. Callers at the same time all read the same whole key."""
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = path.with_name(f"{path.name}.{secrets.token_hex(8)}")
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(make())
            file.flush()
            os.fsync(file.fileno())
        try:
            path.hardlink_to(part)
        except FileExistsError:
            pass
        except OSError:  # no hard links here
            part.replace(path)
        finally:
            part.unlink(missing_ok=True)
    return path.read_bytes()
