"""The set-up media of Northmere: what is on each, how it came, and what is wrong with one of them."""

from __future__ import annotations

import hashlib
from datetime import date

from doorstone.work.media import NewMedia


def _media(platform: str, release: str, language: str, size: int, **more: object) -> NewMedia:
    digest = hashlib.sha256(f"{platform} {release} {language} {more.get('arch', '')}".encode()).hexdigest()
    held: dict[str, object] = {
        "asked": release,
        "editions": ("desk", "estate") if platform == "tarn" else ("studio",),
        "arch": "x86-64",
        "partition_table": "gpt",
        "sha256": digest,
        "published_sha256": digest,
        "origin": "the cupboard of the Herbarium",
        "maker": "Media Maker 4.2",
        "link": f"https://{platform}.example/media/{release}-{language}",
        "link_ends": date(2027, 1, 31),
        "stick_gb": 16,
    }
    return NewMedia(platform=platform, release=release, language=language, size=size, **(held | more))  # type: ignore[arg-type]


MEDIA = [
    _media("tarn", "9.1", "en", 6_200_000_000),
    _media("tarn", "9.1", "nl", 6_300_000_000, editions=("desk",)),
    # Asked for 9.1; the media maker was of an older version and gave 9.0.
    _media("tarn", "9.0", "cy", 5_900_000_000, asked="9.1", maker="Media Maker 4.0"),
    # The link ran out before anybody had compared the digest.
    _media("tarn", "9.1", "de", 6_300_000_000, published_sha256="", link_ends=date(2026, 12, 31), stick_gb=None),
    _media("brindle", "7", "en", 11_800_000_000),
    _media("brindle", "6", "en", 9_100_000_000, stick_gb=16),
]
