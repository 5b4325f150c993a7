"""Names of devices: which spellings name the same device."""

from __future__ import annotations

import unicodedata


def name_key(name: str) -> str:
    """What is equal for all spellings of one name: those that differ in case, outer spaces or Unicode normal form."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name.strip()).casefold())
