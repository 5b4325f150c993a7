"""The register as an OSCAL plan of action and milestones, JSON, model version 1.1.2 (NIST)."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from datetime import UTC, date, datetime
from typing import Any

from msgspec import Struct

OSCAL_VERSION = "1.1.2"
_SPACE = uuid.UUID("6a0b8f2e-3d65-5c55-9d4c-5d0f6e1f7a11")
_STATUS = {"requested": "deviation-requested", "approved": "deviation-approved", "lapsed": "open"}


class PlanItem(Struct, frozen=True):
    """What the plan needs of one exception; days as ISO text."""

    id: str
    title: str
    reason: str
    risk: str
    state: str
    devices: Sequence[str]
    requirements: Sequence[str]
    conditions: Sequence[str]
    owner: str
    requester: str
    approvers: Sequence[str]
    start: str
    review: str
    through: str
    links: Sequence[tuple[str, str]]
    requested_at: str


def _id(*parts: str) -> str:
    """The same UUID for the same thing in every export."""
    return str(uuid.uuid5(_SPACE, " ".join(parts)))


def _moment(day: str) -> str:
    return datetime.fromisoformat(day).replace(tzinfo=UTC).isoformat()


def plan_of_action(items: Sequence[PlanItem], now: datetime) -> dict[str, Any]:
    """One risk and one item per exception. An empty register has no items to list, so it gets one that says so."""
    people = sorted({name for item in items for name in (item.owner, item.requester, *item.approvers)})
    metadata: dict[str, Any] = {
        "title": "Upgrade requirements that are excepted",
        "last-modified": now.replace(tzinfo=UTC).isoformat(),
        "version": now.date().isoformat(),
        "oscal-version": OSCAL_VERSION,
    }
    if people:
        metadata["roles"] = [{"id": name, "title": name.capitalize()} for name in ("owner", "requester", "approver")]
        metadata["parties"] = [{"uuid": _id("party", name), "type": "person", "name": name} for name in people]
    plan: dict[str, Any] = {
        "uuid": _id("plan", now.isoformat()),
        "metadata": metadata,
        "system-id": {"identifier-type": "http://ietf.org/rfc/rfc4122", "id": _id("system")},
    }
    if items:
        plan["risks"] = [_risk(item) for item in items]
        plan["poam-items"] = [_item(item) for item in items]
    else:
        nothing = {"title": "Nothing is excepted", "description": "No exception is requested, approved or lapsed."}
        plan["poam-items"] = [{"uuid": _id("nothing"), **nothing}]
    return {"plan-of-action-and-milestones": plan}


def _risk(item: PlanItem) -> dict[str, Any]:
    kept = [{"uuid": _id("condition", item.id, text), "description": text} for text in dict.fromkeys(item.conditions)]
    return {
        "uuid": _id("risk", item.id),
        "title": f"{item.id}: {item.title}",
        "description": f"Devices: {', '.join(item.devices)}. Requirements unmet: {', '.join(item.requirements)}.",
        "statement": item.risk,
        "status": _STATUS[item.state],
        "deadline": _moment(item.through),
        **({"mitigating-factors": kept} if kept else {}),
        "remediations": [_remediation(item)],
    }


def _remediation(item: PlanItem) -> dict[str, Any]:
    return {
        "uuid": _id("remediation", item.id),
        "lifecycle": "planned",
        "title": "Review, then fix, replace or renew",
        "description": item.reason,
        "tasks": [
            _task(item, "review", "Review the exception", item.review),
            _task(item, "through", "The exception lapses after this day", item.through),
        ],
    }


def _task(item: PlanItem, kind: str, title: str, day: str) -> dict[str, Any]:
    return {
        "uuid": _id(kind, item.id),
        "type": "milestone",
        "title": title,
        "timing": {"on-date": {"date": _moment(day)}},
        "responsible-roles": [{"role-id": "owner", "party-uuids": [_id("party", item.owner)]}],
    }


def _item(item: PlanItem) -> dict[str, Any]:
    found: dict[str, Any] = {
        "uuid": _id("item", item.id),
        "title": f"{item.id}: {item.title}",
        "description": item.reason,
        "props": [{"name": "planned-completion-date", "value": date.fromisoformat(item.through).isoformat()}],
        "related-risks": [{"risk-uuid": _id("risk", item.id)}],
    }
    if item.links:
        found["links"] = [{"href": link, "rel": "reference", "text": title} for title, link in item.links]
    return found
