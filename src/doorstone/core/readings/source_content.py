"""Source contents: what each source has said of a device last, and how a further reading changes that.

In: what a source said before and a new reading, both as JSON holds them. Out: what it says now.
A later word on a fact replaces an earlier one; the order in which readings arrive does not matter.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

ContentByTime = dict[str, "SourceContent"]
"""Time of reading (ISO 8601) -> what of that reading still is the source's newest word."""


@dataclass(slots=True)
class SourceContent:
    """Facts and verdicts as JSON holds them. `texts`: failures in the source's own words; None if it told of none."""

    facts: dict[str, Any] = field(default_factory=dict)
    verdicts: dict[str, bool] = field(default_factory=dict)
    texts: list[str] | None = None


def merge(held: ContentByTime, taken_at: str, new: SourceContent) -> ContentByTime:
    """What the source says once `new` has been read at `taken_at`. Times are ISO 8601 of one form, so text sorts."""
    merged: ContentByTime = {}
    for name in ("facts", "verdicts"):
        mine = getattr(new, name)
        for at, said in held.items():
            theirs = getattr(said, name)
            if at <= taken_at:
                kept = {key: value for key, value in theirs.items() if key not in mine}
            else:
                kept = theirs
                mine = {key: value for key, value in mine.items() if key not in theirs}
            setattr(merged.setdefault(at, SourceContent()), name, kept)
        here = merged.setdefault(taken_at, SourceContent())
        setattr(here, name, getattr(here, name) | mine)
    speaking = {at: said.texts for at, said in held.items() if said.texts is not None}
    if new.texts is not None:
        speaking[taken_at] = list(new.texts)
    if speaking:
        last = max(speaking)
        merged[last].texts = speaking[last]
    return {at: said for at, said in merged.items() if said.facts or said.verdicts or said.texts is not None}


def drop_older(held: ContentByTime, fact: str, before: str) -> ContentByTime:
    """The words without what was said of a fact before a time: something has changed it since."""
    kept = {}
    for at, said in held.items():
        facts = {name: value for name, value in said.facts.items() if name != fact} if at < before else said.facts
        if facts or said.verdicts or said.texts is not None:
            kept[at] = SourceContent(facts, said.verdicts, said.texts)
    return kept


def current_texts(words: ContentByTime) -> list[tuple[str, str]]:
    """The failures that the source reports now, as (text, taken_at)."""
    return [(text, at) for at, said in words.items() for text in said.texts or ()]
