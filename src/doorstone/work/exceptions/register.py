"""The register of exceptions to hand over: as rows, as one page that stands alone, as an OSCAL plan; and a device's
account of itself: who allowed what, on what evidence, until when, under which conditions, and whether it still holds.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from doorstone.core.ledger.sentences import sentence
from doorstone.core.platforms.platform import target_release
from doorstone.core.sorting.assessment import RequirementFinding
from doorstone.formats.exception_page import CommentLine, ConditionLine, ExceptionPageData, exception_page
from doorstone.formats.oscal import PlanItem, plan_of_action
from doorstone.store import ledger as ledger_store
from doorstone.store.exceptions.rows import AttachmentRow
from doorstone.work.context.context import Context
from doorstone.work.exceptions.decisions import consequences
from doorstone.work.exceptions.requests import ExceptionView, get_exception, list_exceptions
from doorstone.work.snapshot.approvals import KeptView
from doorstone.work.snapshot.sheets import need_release
from doorstone.work.snapshot.snapshot import snapshot

COLUMNS = (
    "exception", "state", "in force", "platform", "release", "up to", "requirements", "devices", "left out", "reason",
    "conditions", "owner", "requested by", "requested at", "approved by", "decided at", "self-approved", "start",
    "through", "review", "renews", "stale devices", "risk version", "risk acknowledged by", "attachments",
    "residual risk",
)  # fmt: skip


class StoryLine(Struct, frozen=True):
    """One entry of the ledger as a sentence."""

    seq: int
    at: str
    actor: str
    words: str


class Permission(Struct, frozen=True):
    """One requirement that a device fails, and what permits that. `still` says why it no longer holds, if so."""

    requirement: str
    title: str
    measured: str
    sort: str
    sorted_by: str
    exception: str
    approved_by: tuple[str, ...]
    approved_at: str
    self_approved: bool
    through: str
    conditions: tuple[KeptView, ...]
    attachments: tuple[AttachmentRow, ...]
    holds: bool
    still: tuple[str, ...]


class Account(Struct, frozen=True):
    device: str
    runs: str
    release: str
    permissions: tuple[Permission, ...]
    others: tuple[OtherException, ...] = ()


class OtherException(Struct, frozen=True):
    """An exception of a device, requested or approved, that does not concern the release that is shown."""

    id: str
    state: str
    release: str
    requirements: tuple[str, ...]
    through: str


def rows(context: Context) -> list[dict[str, Any]]:
    """Every exception, the most residual risk first, as columns of plain values; lists stay lists."""
    return [_row(view) for view in list_exceptions(context, by_risk=True)]


def _row(view: ExceptionView) -> dict[str, Any]:
    row = view.row
    values = (
        view.id, view.state, view.in_force, row.platform, row.release, row.up_to, list(row.requirements),
        list(row.devices), [f"{name}: {why}" for name, why in row.left_out.items()], row.reason,
        [f"{k.kept.text} ({k.kept.word})" for k in view.kept], row.owner, row.requester, row.requested_at,
        [a.person for a in row.approvals] or ([row.decided_by] if row.decided_by and row.shown else []),
        row.decided_at or "", row.self_approved, row.start_on, row.expires_on, row.review_on, view.renews,
        sorted(view.stale), row.risk_version, row.acknowledged_by, [a.link for a in row.attachments],
        view.residual.points,
    )  # fmt: skip
    return dict(zip(COLUMNS, values, strict=True))


def account(context: Context, device: str, release: str = "") -> Account:
    """What permits a device to fail what it fails at `release`, the one that it runs if left out."""
    now = snapshot(context)
    now.device(device)
    platform = now.need_sheet(device).platform
    runs = now.view(device).text("os.release")
    release = release or (runs if platform.has(runs) else target_release(platform, now.today))
    need_release(platform, release)
    reaching = {e.id for e in now.exceptions_of(device) if e.reaches(platform, release)}
    every = list_exceptions(context, device=device)
    held = [view for view in every if view.id in reaching]
    unmet = now.assessment(device, release).unmet()
    others = tuple(
        OtherException(view.id, view.state, view.row.release, view.row.requirements, view.row.expires_on)
        for view in every
        if view.id not in reaching and view.state in ("requested", "approved") and device in view.row.devices
    )
    return Account(device, runs, release, tuple(_permission(device, finding, held) for finding in unmet), others)


def _permission(device: str, finding: RequirementFinding, held: list[ExceptionView]) -> Permission:
    name = finding.requirement.id
    naming = [v for v in held if name in v.row.requirements and v.row.shown.get(device)]
    best = max(naming, key=lambda v: (v.in_force and device not in v.stale, v.in_force, v.row.expires_on), default=None)
    measured = ", ".join(f"{leaf.fact} {leaf.measured or 'unread'}" for leaf in finding.leaves)
    waiting = next((v.id for v in held if name in v.row.requirements and v.state == "requested"), "")
    why = _why_not(device, best, waiting)
    row = best.row if best else None
    return Permission(
        name,
        finding.requirement.title,
        measured,
        finding.sort.value if finding.sort else "",
        finding.sorted_by,
        best.id if best else "",
        tuple(a.person for a in row.approvals) or ((row.decided_by,) if row and row.decided_by else ()) if row else (),
        row.decided_at or "" if row else "",
        row.self_approved if row else False,
        row.expires_on if row else "",
        best.kept if best else (),
        row.attachments if row else (),
        not why,
        why,
    )


def _why_not(device: str, view: ExceptionView | None, waiting: str) -> tuple[str, ...]:
    if view is None:
        return (f"nobody has allowed it yet; {waiting} waits for a decision" if waiting else "nobody has allowed it",)
    why = []
    if not view.in_force:
        starts = f"it starts on {view.row.start_on}"
        why.append(starts if view.state == "approved" else f"{view.id} is {view.state}")
    why += list(view.stale.get(device, ()))
    for one in view.kept:
        if not one.kept.holds and not one.devices:
            why.append(f"the condition “{one.kept.text}” is {one.kept.word}")
    return tuple(why)


# -------------------------------------------------------------------- stories


def story(context: Context, kind: str, obj: str) -> list[StoryLine]:
    """Everything that the ledger knows of an object, oldest first, as sentences."""
    with context.database.read() as db:
        entries = ledger_store.story(db, kind, obj)
    return [
        StoryLine(
            e.seq, e.at, e.actor, _with_name(e.kind, e.object, obj, sentence(e.action, e.object, e.body, e.actor))
        )
        for e in entries
    ]


def _with_name(kind: str, own: str, asked: str, words: str) -> str:
    return words if own == asked or own in words else f"{own}: {words}"


# ------------------------------------------------------------------- documents


def whole(context: Context, name: str) -> dict[str, Any]:
    """One exception with everything that the records hold of it, as plain values."""
    return {**asdict(get_exception(context, name).row), "id": name}


def page(context: Context, name: str, printed_at: str = "") -> tuple[str, str]:
    """One exception as an HTML page that stands alone, and the digest of its style for the content policy."""
    view = get_exception(context, name)
    now = snapshot(context)
    sheet = now.sheets.get(view.row.platform)
    known = {r.id: r for r in sheet.platform.requirements_at(view.row.release)} if sheet else {}
    data = ExceptionPageData(
        id=view.id,
        row=_row(view),
        risk=view.row.risk_text,
        notice=view.row.notice_text,
        requirements=[
            (name, known[name].title if name in known else name, known[name].because if name in known else "")
            for name in view.row.requirements
        ],
        shown=view.row.shown,
        left_out=dict(view.row.left_out),
        approvals=[(a.person, a.at, a.note) for a in view.row.approvals],
        conditions=[ConditionLine(k.kept.text, k.kept.word.value, k.kept.measured, dict(k.devices)) for k in view.kept],
        attachments=[(a.title, a.link, a.sha256) for a in view.row.attachments],
        comments=[CommentLine(c.kind, c.text, c.by, c.at) for c in view.row.comments],
        stale={device: list(words) for device, words in view.stale.items()},
        consequences=[(c.device, list(c.steps)) for c in consequences(context, name)]
        if view.state != "requested"
        else [],
        story=[(line.seq, line.at, line.words) for line in story(context, "exception", name)],
        printed_at=printed_at or context.now(),
    )
    return exception_page(data)


def oscal(context: Context) -> dict[str, Any]:
    """Every exception that is requested or approved, as an OSCAL plan of action and milestones."""
    items = []
    for view in list_exceptions(context):
        row = view.row
        if view.state not in ("requested", "approved", "lapsed"):
            continue
        items.append(
            PlanItem(
                id=view.id,
                title=f"{', '.join(row.requirements)} unmet on {len(row.devices)} of {row.platform} {row.release}",
                reason=row.reason,
                risk=row.risk_text,
                state=view.state,
                devices=row.devices,
                requirements=row.requirements,
                conditions=tuple(k.kept.text for k in view.kept),
                owner=row.owner,
                requester=row.requester,
                approvers=tuple(a.person for a in row.approvals),
                start=row.start_on,
                review=row.review_on,
                through=row.expires_on,
                links=tuple((a.title, a.link) for a in row.attachments),
                requested_at=row.requested_at,
            )
        )
    return plan_of_action(items, datetime.fromisoformat(context.now()))
