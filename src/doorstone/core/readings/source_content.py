"""Source contents: what each source reports of a device now, and how a further reading changes that.

In: contents before and a new reading, both as JSON holds them. Out: contents now.
A later value of a fact replaces an earlier one; the order in which readings arrive does not matter.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct, field

ContentByTime = dict[str, "SourceContent"]
"""Time of reading (ISO 8601) -> what of that reading still is the source's newest word."""


class SourceContent(Struct):
    """Facts and verdicts as JSON holds them. `texts`: failure messages; None if the source never reported any."""

    facts: dict[str, Any] = field(default_factory=dict)
    verdicts: dict[str, bool] = field(default_factory=dict)
    texts: list[str] | None = None


def merge(held: ContentByTime, taken_at: str, new: SourceContent) -> ContentByTime:
    """What the source reports once `new` was read at `taken_at`. Times are ISO 8601 of one form, so text sorts."""
    merged: ContentByTime = {}
    for name in ("facts", "verdicts"):
        added = getattr(new, name)
        for at, content in held.items():
            before = getattr(content, name)
            if at <= taken_at:
                kept = {key: value for key, value in before.items() if key not in added}
            else:
                kept = before
                added = {key: value for key, value in added.items() if key not in before}
            setattr(merged.setdefault(at, SourceContent()), name, kept)
        here = merged.setdefault(taken_at, SourceContent())
        setattr(here, name, getattr(here, name) | added)
    reporting = {at: content.texts for at, content in held.items() if content.texts is not None}
    if new.texts is not None:
        reporting[taken_at] = list(new.texts)
    if reporting:
        last = max(reporting)
        merged[last].texts = reporting[last]
    return {
        at: content for at, content in merged.items() if content.facts or content.verdicts or content.texts is not None
    }


def drop_older(held: ContentByTime, fact: str, before: str) -> ContentByTime:
    """The contents without values of a fact that are older than a time: something has changed it since."""
    kept = {}
    for at, content in held.items():
        facts = {name: value for name, value in content.facts.items() if name != fact} if at < before else content.facts
        if facts or content.verdicts or content.texts is not None:
            kept[at] = SourceContent(facts, content.verdicts, content.texts)
    return kept


def current_texts(words: ContentByTime) -> list[tuple[str, str]]:
    """The failures that the source reports now, as (text, taken_at)."""
    return [(text, at) for at, content in words.items() for text in content.texts or ()]
