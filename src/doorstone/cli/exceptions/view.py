"""How exceptions are printed: as rows, and one in full."""

from __future__ import annotations

from rich.markup import escape

from doorstone.api.exceptions import ConsequenceResponse, ExceptionResponse
from doorstone.api.ledger import StoryLineResponse
from doorstone.cli.output import OutputFormat, out, show


def print_exceptions(form: OutputFormat, found: list[ExceptionResponse]) -> None:
    rows = [
        [
            e.id,
            _state(e),
            f"{'up to ' if e.up_to else ''}{e.release}",
            e.requirements,
            e.devices if len(e.devices) <= 3 else f"{len(e.devices)} devices",
            e.expires_on,
            e.residual.points,
            f"{e.requester}, {_deciders(e)}",
        ]
        for e in found
    ]
    columns = ["exception", "state", "release", "requirements", "devices", "through", "risk", "asked, decided by"]
    show(form, found if len(found) != 1 else found[0], columns, rows)


def _state(e: ExceptionResponse) -> str:
    words = [word for word, on in (("stale", e.stale), ("asked back", e.asked_back), ("own", e.self_approved)) if on]
    return e.state + (f" ({', '.join(words)})" if words else "")


def _deciders(e: ExceptionResponse) -> str:
    named = [approval.person for approval in e.approvals] or ([e.decided_by] if e.decided_by else [])
    if e.state == "requested":
        return f"{len(named)} of {e.approvals_needed} approvals" if e.approvals_needed > 1 else "undecided"
    return ", ".join(named) or "undecided"


def print_one(e: ExceptionResponse, steps: list[ConsequenceResponse], story: list[StoryLineResponse]) -> None:
    """Everything of one exception that the row does not say."""
    console = out()
    console.print(f"\nReason: {escape(e.reason)}")
    console.print(f"Owner: {e.owner}; in force {e.start_on} through {e.expires_on}, reviewed by {e.review_on}")
    if e.renews:
        console.print(f"It renews {e.renews}")
    if e.renewed_by:
        words = "renews it" if e.renewed_state != "requested" else "is asked for to renew it"
        console.print(f"{e.renewed_by} {words}")
    parts = ", ".join(f"{part.words} {part.points:+d}" for part in e.residual.parts)
    on = f" on {e.residual.device}" if len(e.devices) > 1 and e.residual.device else ""
    console.print(f"Residual risk{on}: [bold]{e.residual.points}[/]" + (f" ({escape(parts)})" if parts else ""))
    if e.renewed_by and e.renewed_state == "requested":
        console.print("Until it is approved, this one ends on its last day.")
    notice = ", with the vendor's notice" if e.notice_text else ""
    console.print(f"Risk statement, version {e.risk_version}, acknowledged by {e.acknowledged_by}{notice}")
    if e.notice_text:
        console.print(f"The notice: “{escape(e.notice_text)}”")
    for approval in e.approvals:
        place = f", in place of {approval.in_place_of}," if approval.in_place_of else ""
        console.print(f"Approved by {approval.person}{place} on {approval.at.date()}" + _note(approval.note))
    if e.self_approved:
        console.print("[bold red]Approved by the person who asked for it.[/]")
    for c in e.conditions:
        due = f", to be attested by {c.due_on}" if c.due_on else ""
        where = "".join(f"\n    {device}: {escape(measured)}" for device, measured in c.devices.items())
        console.print(f"Condition {c.number}: {escape(c.text)}: [bold]{c.word}[/]{due}{where}")
    for a in e.attachments:
        console.print(f"Attached: {escape(a.title)}, {escape(a.link)}" + (f", SHA-256 {a.sha256}" if a.sha256 else ""))
    for what, why in e.left_out.items():
        console.print(f"Not approved: {escape(what)}: {escape(why)}")
    for device, changes in e.stale.items():
        console.print(f"[bold red]Stale[/] for {device}: {escape('; '.join(changes))}")
    for device, changes in e.stale_moved_on.items():
        console.print(f"Stale for {device}, which runs a later release by now: {escape('; '.join(changes))}")
    for one in steps:
        console.print(f"[bold]{one.device}[/]: {escape('. '.join(one.steps))}.")
    if story:
        console.print("\nWhat happened")
        for line in story:
            console.print(f"  {line.at:%Y-%m-%d %H:%M}  {escape(line.words)}")


def _note(note: str) -> str:
    return f": “{escape(note)}”" if note else ""
