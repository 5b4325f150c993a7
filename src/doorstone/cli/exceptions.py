"""Exceptions: request, look, approve, decline, withdraw, revoke."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Annotated

import typer
from rich.panel import Panel

from doorstone.cli.connection import client
from doorstone.cli.devices import ReleaseOption
from doorstone.cli.output import USAGE, Form, FormOption, err, fail, out, say, show, speaks
from doorstone.client.client import Move
from doorstone.formats.wire import ExceptionRequestAsked, ExceptionShape, ExceptionTermsAsked

app = typer.Typer(no_args_is_help=True, help="Ask for, and decide on, permissions for what cannot be fixed.")
NameArgument = Annotated[str, typer.Argument(metavar="EXCEPTION", help="Exception id, such as EX-0001.")]
NoteOption = Annotated[str, typer.Option(help="Why, in a sentence.")]
DayOption = Annotated[datetime | None, typer.Option(formats=["%Y-%m-%d"])]


def _print(form: Form, found: list[ExceptionShape]) -> None:
    rows = [
        [
            e.id,
            e.state + (" (stale)" if e.stale else ""),
            f"{'up to ' if e.up_to else ''}{e.release}",
            e.requirements,
            e.devices if len(e.devices) <= 3 else f"{len(e.devices)} devices",
            e.expires_on,
            f"{e.requester}, {e.decided_by or 'undecided'}",
        ]
        for e in found
    ]
    columns = ["exception", "state", "release", "requirements", "devices", "through", "asked, decided by"]
    show(form, found if len(found) != 1 else found[0], columns, rows)


@app.command()
@speaks
def request(
    context: typer.Context,
    device: Annotated[list[str], typer.Option("--device", "-d", help="Device id; repeat for more.")],
    requirement: Annotated[list[str], typer.Option("--requirement", "-q", help="Requirement id; repeat for more.")],
    release: ReleaseOption,
    reason: Annotated[str, typer.Option(help="Why it can be neither fixed nor replaced.")],
    expires: Annotated[datetime, typer.Option(formats=["%Y-%m-%d"], help="Last day it is in force.")],
    up_to: Annotated[bool, typer.Option("--up-to", help="Also for every release before it.")] = False,
    owner: Annotated[str, typer.Option(help="Who answers for it; you if left out.")] = "",
    conditions: Annotated[str, typer.Option(help="What must be kept to meanwhile.")] = "",
    starts: DayOption = None,
    review: DayOption = None,
    acknowledge_risk: Annotated[
        bool, typer.Option("--acknowledge-risk", help="You have read the risk statement and take it on.")
    ] = False,
    form: FormOption = Form.TABLE,
) -> None:
    """Request an exception for installer checks. Floors, unread and disputed findings are refused."""
    with client(context) as service:
        me = service.session()
        if not acknowledge_risk:
            err().print(Panel(me.risk_statement, title="The risk statement", width=80))
            fail(USAGE, "The risk is not acknowledged", "Read the statement and add --acknowledge-risk")
        start = starts.date() if starts else me.today
        end = expires.date()
        found = service.request_exception(
            ExceptionRequestAsked(
                release=release,
                up_to=up_to,
                requirements=requirement,
                devices=device,
                risk_acknowledged=me.risk_statement,
                reason=reason,
                conditions=conditions,
                owner=owner or me.name,
                start_on=start,
                expires_on=end,
                review_on=review.date() if review else _half_way(start, end),
            )
        )
    _print(form, [found])
    say(f"An approver decides. Next: [bold]doorstone exception approve[/] {found.id}")


def _half_way(start: date, end: date) -> date:
    return start + timedelta(days=max(0, (end - start).days // 2))


@app.command("list")
@speaks
def list_exceptions(
    context: typer.Context,
    state: Annotated[str, typer.Option(help="requested, approved, declined, lapsed, revoked, ...")] = "",
    device: Annotated[str, typer.Option(help="Only those that name this device.")] = "",
    form: FormOption = Form.TABLE,
) -> None:
    """List exceptions, newest first."""
    with client(context) as service:
        found = service.exceptions(state, device)
    if form is Form.JSON:
        show(form, found, [], [])
    else:
        _print(form, found)


@app.command("show")
@speaks
def show_exception(context: typer.Context, name: NameArgument, form: FormOption = Form.TABLE) -> None:
    """Show one exception, and whether its approval still stands."""
    with client(context) as service:
        found = service.exception(name)
    _print(form, [found])
    if form is Form.TABLE:
        console = out()
        console.print(f"\nReason: {found.reason}\nConditions: {found.conditions or 'none'}\nOwner: {found.owner}")
        console.print(f"Risk acknowledged by {found.acknowledged_by}; review on {found.review_on}")
        for device, changes in found.stale.items():
            console.print(f"[bold]Stale[/] for {device}: {'; '.join(changes)}")


@app.command()
@speaks
def edit(
    context: typer.Context,
    name: NameArgument,
    reason: Annotated[str, typer.Option(help="Why it can be neither fixed nor replaced.")] = "",
    conditions: Annotated[str, typer.Option(help="What must be kept to meanwhile.")] = "",
    owner: Annotated[str, typer.Option(help="Who answers for it.")] = "",
    starts: DayOption = None,
    expires: DayOption = None,
    review: DayOption = None,
    form: FormOption = Form.TABLE,
) -> None:
    """Edit one's own request while nobody has decided; what is left out stays."""
    with client(context) as service:
        held = service.exception(name)
        terms = ExceptionTermsAsked(
            reason=reason or held.reason,
            conditions=conditions or held.conditions,
            owner=owner or held.owner,
            start_on=starts.date() if starts else held.start_on,
            expires_on=expires.date() if expires else held.expires_on,
            review_on=review.date() if review else held.review_on,
        )
        found = service.edit_exception(name, held.version, terms)
    _print(form, [found])


def _decide(context: typer.Context, name: str, move: Move, note: str, form: Form) -> None:
    with client(context) as service:
        found = service.decide_exception(name, move, service.exception(name).version, note)
    _print(form, [found])


@app.command()
@speaks
def approve(context: typer.Context, name: NameArgument, note: NoteOption = "", form: FormOption = Form.TABLE) -> None:
    """Approve a request, on the findings as they are now. Never one's own."""
    _decide(context, name, "approve", note, form)
    say("Next: [bold]doorstone kit make[/] DEVICE")


@app.command()
@speaks
def decline(context: typer.Context, name: NameArgument, note: NoteOption, form: FormOption = Form.TABLE) -> None:
    """Decline a request, saying why."""
    _decide(context, name, "decline", note, form)


@app.command()
@speaks
def revoke(context: typer.Context, name: NameArgument, note: NoteOption, form: FormOption = Form.TABLE) -> None:
    """Revoke an approved exception, saying why."""
    _decide(context, name, "revoke", note, form)


@app.command()
@speaks
def close(context: typer.Context, name: NameArgument, note: NoteOption = "", form: FormOption = Form.TABLE) -> None:
    """Close an approved exception that is no longer needed."""
    _decide(context, name, "close", note, form)


@app.command()
@speaks
def withdraw(context: typer.Context, name: NameArgument, form: FormOption = Form.TABLE) -> None:
    """Withdraw one's own request."""
    with client(context) as service:
        found = service.withdraw_exception(name, service.exception(name).version)
    _print(form, [found])
