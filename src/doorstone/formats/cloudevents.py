"""Events for other programs: CloudEvents 1.0 in structured JSON."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

SOURCE = "/doorstone"
CONTENT_TYPE = "application/cloudevents+json"


def event_json(event: str, kind: str, subject: str, at: str, data: Mapping[str, Any]) -> str:
    """One event. `kind` becomes its type, `doorstone.exception.approved`; `at` is UTC without a zone."""
    from cloudevents.core.bindings.http import to_structured_event
    from cloudevents.core.v1.event import CloudEvent

    attributes = {
        "id": event,
        "source": SOURCE,
        "type": f"doorstone.{kind}",
        "subject": subject,
        "time": datetime.fromisoformat(at).replace(tzinfo=UTC),
        "datacontenttype": "application/json",
    }
    body = to_structured_event(CloudEvent(attributes, dict(data))).body
    return body.decode() if isinstance(body, bytes) else str(body)


def kind_of(action: str) -> str:
    """An entry's action as an event kind: `exception approved` -> `exception.approved`."""
    first, _, rest = action.partition(" ")
    return f"{first}.{rest.replace(' ', '-')}" if rest else first
