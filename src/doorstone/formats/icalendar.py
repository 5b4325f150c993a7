"""Due dates as an iCalendar feed (RFC 5545)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from doorstone.core.due.items import Due


def calendar(name: str, found: Iterable[Due], now: datetime, address: str = "") -> bytes:
    """A calendar with an all-day event per item. The same item keeps its UID, so that programs move it, not copy it."""
    from icalendar import Calendar, Event

    feed = Calendar()
    feed.add("prodid", "-//Door Stone//due dates//EN")
    feed.add("version", "2.0")
    feed.add("name", name)
    for due in found:
        event = Event()
        part = f"-{due.part.replace(' ', '-')}" if due.part else ""
        event.add("uid", f"{due.kind}-{due.object}{part}@doorstone")
        event.add("dtstamp", now.replace(tzinfo=UTC))
        event.add("dtstart", due.on)
        event.add("summary", due.words)
        event.add("categories", [due.kind.value])
        event.add("transp", "TRANSPARENT")
        if address:
            page = {"platform": "sheets", "media": "media"}.get(due.object_kind, f"{due.object_kind}s/{due.object}")
            event.add("url", f"{address.rstrip('/')}/{page}")
        feed.add_component(event)
    return bytes(feed.to_ical())
