"""Exceptions: request, look, decide."""

from __future__ import annotations

import tomllib
from datetime import date, datetime, timedelta
from typing import Annotated, Any

import typer
from rich.markup import escape
from rich.panel import Panel

from doorstone.api.exceptions import (
    ConditionRequest,
    ExceptionRequest,
    ExceptionResponse,
    ExceptionTermsRequest,
    MoveName,
    RenewalsRequest,
    RiskResponse,
)
from doorstone.cli.connection import client
from doorstone.cli.exceptions import activity, folder
from doorstone.cli.exceptions.view import print_exceptions, print_one
from doorstone.cli.output import (
    MISSING,
    REFUSED,
    USAGE,
    FormOption,
    OutputFormat,
    err,
    fail,
    out,
    reports_errors,
    say,
    show,
)
from doorstone.client import Client

app = typer.Typer(no_args_is_help=True)
NameArgument = Annotated[str, typer.Argument(metavar="EXCEPTION", help="Exception id, such as EX-0001.")]
NamesArgument = Annotated[list[str], typer.Argument(metavar="EXCEPTION", help="Exception ids, such as EX-0001.")]
NoteOption = Annotated[str, typer.Option(help="Why, in a sentence.")]
StartsOption = Annotated[
    datetime | None, typer.Option(formats=["%Y-%m-%d"], help="First day it is in force; a request's is today.")
]
EndsOption = Annotated[datetime | None, typer.Option(formats=["%Y-%m-%d"], help="Last day it is in force.")]
ReviewOption = Annotated[
    datetime | None, typer.Option(formats=["%Y-%m-%d"], help="Day of the review; a request's is half-way.")
]
DeviceOption = Annotated[list[str] | None, typer.Option("--device", "-d", help="Device id; repeat for more.")]
ConditionOption = Annotated[
    list[str] | None,
    typer.Option("--condition", help="Words to be attested by the review date; repeat for more."),
]
CheckOption = Annotated[
    list[str] | None,
    typer.Option("--check", help="A condition on facts as in a sheet, such as 'fact = \"disk.encrypted\", is = true'."),
]


def _conditions(words: list[str] | None, checks: list[str] | None) -> list[ConditionRequest]:
    found = [ConditionRequest(text=text) for text in words or ()]
    for text in checks or ():
        inner = text.strip().removeprefix("{").removesuffix("}").strip()
        try:
            data: dict[str, Any] = tomllib.loads(f"c = {{ {inner} }}")["c"]
        except tomllib.TOMLDecodeError as error:
            fail(USAGE, f"--check {text!r} cannot be read: {error}", 'Write: fact = "disk.encrypted", is = true')
        found.append(ConditionRequest(fact_condition=data))
    return found


@app.command()
@reports_errors
def request(
    context: typer.Context,
    release: Annotated[str, typer.Option("--release", "-r", help="The release that the exception permits.")],
    reason: Annotated[str, typer.Option(help="Why it can be neither fixed nor replaced.")],
    expires: Annotated[datetime, typer.Option(formats=["%Y-%m-%d"], help="Last day it is in force.")],
    requirement: Annotated[
        list[str] | None, typer.Option("--requirement", "-q", help="Requirement id; repeat for more.")
    ] = None,
    each: Annotated[
        bool,
        typer.Option("--each", help="Request what each device needs: one exception for each distinct set of needs."),
    ] = False,
    device: DeviceOption = None,
    selection: Annotated[str, typer.Option(help="A saved selection whose devices come on top.")] = "",
    go_on: Annotated[bool, typer.Option("--go-on", help="Leave out devices that cannot have it.")] = False,
    up_to: Annotated[bool, typer.Option("--up-to", help="Also for every release before it.")] = False,
    owner: Annotated[str, typer.Option(help="Who answers for it; you if left out.")] = "",
    condition: ConditionOption = None,
    check: CheckOption = None,
    starts: StartsOption = None,
    review: ReviewOption = None,
    renews: Annotated[str, typer.Option(help="The exception that it renews.")] = "",
    only_check: Annotated[bool, typer.Option("--dry-run", "-n", help="Only say what the request would meet.")] = False,
    acknowledge_risk: Annotated[
        bool, typer.Option("--acknowledge-risk", help="You have read the risk statement and take it on.")
    ] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Request an exception for installer checks. Floors, unread and disputed findings are refused."""
    with client(context) as service:
        me = service.session()
        start, end = starts.date() if starts else me.today, expires.date()
        request = ExceptionRequest(
            release=release,
            up_to=up_to,
            requirements=requirement or [],
            devices=device or [],
            selection=selection,
            go_on=go_on,
            renews=renews,
            risk_acknowledged=me.risk_statement,
            reason=reason,
            conditions=_conditions(condition, check),
            owner=owner or me.name,
            start_on=start,
            expires_on=end,
            review_on=review.date() if review else _half_way(start, end),
        )
        if each:
            _request_each(service, request, only_check, acknowledge_risk, form)
            return
        if not requirement:
            fail(
                USAGE,
                "No requirement is named",
                "Name one with --requirement, or add --each for what each device needs",
            )
        checked = service.check_request(request)
        if only_check:
            rows = [[name, "can be had", ""] for name in checked.devices]
            rows += [[t.pointer, t.detail, t.hint] for t in (*checked.refused, *checked.terms)]
            show(form, checked, ["device", "exception", "hint"], rows)
            if checked.terms or (checked.refused and not (go_on and checked.devices)):
                raise typer.Exit(REFUSED)  # as the request itself would be
            return
        found = service.request_exception(_acknowledged(service, request, checked.platform, acknowledge_risk))
    print_exceptions(form, [found])
    for entry in found.refused:
        say(f"Left out: [bold]{escape(entry.pointer)}[/]: {escape(entry.detail)}")
    say(f"An approver decides. Next: [bold]doorstone exception approve[/] {found.id}")


def _acknowledged(service: Client, request: ExceptionRequest, platform: str, given: bool) -> ExceptionRequest:
    """The request with the risk statement in it; the statement is shown first unless it was acknowledged."""
    risk = service.risk(platform, request.release)
    if not given:
        _show_risk(risk)
        fail(USAGE, "The risk is not acknowledged", "Read the statement and add --acknowledge-risk")
    return request.model_copy(update={"risk_acknowledged": risk.text, "notice_acknowledged": risk.notice})


def _show_risk(risk: RiskResponse) -> None:
    err().print(Panel(escape(risk.text), title="The risk statement", width=80))
    if risk.notice:
        err().print(Panel(escape(risk.notice), title="The vendor's notice", width=80))


def _request_each(
    service: Client, request: ExceptionRequest, dry: bool, acknowledged: bool, form: OutputFormat
) -> None:
    """Request for each device what it needs, or with `dry` say what would be requested."""
    named = {one.name: one.platform for one in service.selections()}
    if request.selection and request.selection not in named:
        fail(MISSING, f"There is no selection {request.selection!r}", "See them with 'doorstone selection list'")
    if not request.selection and not request.devices:
        fail(USAGE, "No device is named", "Name devices with --device, or a saved --selection")
    platform = named.get(request.selection) or service.device(request.devices[0]).device.platform
    request = _acknowledged(service, request, platform, acknowledged or dry)
    service.dry_run = dry
    found = service.request_each(request)
    rows: list[list[object]] = [
        ["would be requested" if dry else one.exception, one.requirements, len(one.devices), one.devices]
        for one in found.groups
    ]
    rows += [["not requested", f"{t.detail}. {t.hint}", 1, [t.pointer.split(", ")[0]]] for t in found.refused]
    show(form, found, ["exception", "requirements, or why not", "count", "devices"], rows)
    asks = f"{len(found.groups)} exception{'s' if len(found.groups) != 1 else ''}"
    devices = sum(len(one.devices) for one in found.groups)
    if dry:
        say(f"{asks} would be requested for {devices} devices, none for {len(found.refused)}. Nothing was changed.")
        return
    ids = " ".join(one.exception for one in found.groups)
    say(f"{asks} requested for {devices} devices, none for {len(found.refused)}.")
    say(f"An approver decides. Next: [bold]doorstone exception approve[/] {ids}")


def _half_way(start: date, end: date) -> date:
    return start + timedelta(days=max(0, (end - start).days // 2))


@app.command()
@reports_errors
def renew(
    context: typer.Context,
    names: NamesArgument,
    expires: Annotated[datetime, typer.Option(formats=["%Y-%m-%d"], help="Last day of the successors.")],
    reason: Annotated[str, typer.Option(help="Why they are still needed; that of each if left out.")] = "",
    review: ReviewOption = None,
    acknowledge_risk: Annotated[
        bool, typer.Option("--acknowledge-risk", help="You have read the risk statement and take it on.")
    ] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Renew exceptions: request a successor of each from the day after its last, all or none."""
    with client(context) as service:
        held = [service.exception(name) for name in names]
        risks = [service.risk(*pair) for pair in sorted({(one.platform, one.release) for one in held})]
        if not acknowledge_risk and not service.dry_run:
            for risk in risks:
                _show_risk(risk)
            fail(USAGE, "The risk is not acknowledged", "Read the statement and add --acknowledge-risk")
        request = RenewalsRequest(
            exceptions=names,
            expires_on=expires.date(),
            review_on=review.date() if review else None,
            reason=reason,
            risk_acknowledged=risks[0].text,
            notices_acknowledged=[risk.notice for risk in risks if risk.notice],
        )
        found = service.renew_exceptions(request)
    rows: list[list[object]] = [[g.exception, g.requirements, len(g.devices), g.devices] for g in found.groups]
    rows += [["left out", f"{t.detail}. {t.hint}", 1, [t.pointer.split(", ")[0]]] for t in found.refused]
    show(form, found, ["exception", "requirements, or why not", "count", "devices"], rows)
    say(
        f"An approver decides. Next: [bold]doorstone exception approve[/] {' '.join(g.exception for g in found.groups)}"
    )


@app.command("list")
@reports_errors
def list_exceptions(
    context: typer.Context,
    state: Annotated[str, typer.Option(help="requested, approved, declined, lapsed, revoked, ...")] = "",
    device: Annotated[str, typer.Option(help="Only those that name this device.")] = "",
    owner: Annotated[str, typer.Option(help="Only those that this person answers for.")] = "",
    by_risk: Annotated[bool, typer.Option("--by-risk", help="The most residual risk first.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List exceptions, newest first."""
    with client(context) as service:
        found = service.exceptions(state, device, owner, "risk" if by_risk else "newest")
    if form is OutputFormat.JSON:
        show(form, found, [], [])
    else:
        print_exceptions(form, found)


@app.command("show")
@reports_errors
def show_exception(context: typer.Context, name: NameArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Show one exception: who allowed it and why, until when, on what conditions, and whether it still holds."""
    with client(context) as service:
        found = service.exception(name)
        steps = (
            service.consequences(name)
            if form is OutputFormat.TABLE and found.state not in ("requested", "approved")
            else []
        )
        story = service.story("exception", name) if form is OutputFormat.TABLE else []
    print_exceptions(form, [found])
    if form is OutputFormat.TABLE:
        print_one(found, steps, story)


@app.command()
@reports_errors
def edit(
    context: typer.Context,
    name: NameArgument,
    reason: Annotated[str, typer.Option(help="Why it can be neither fixed nor replaced.")] = "",
    condition: ConditionOption = None,
    check: CheckOption = None,
    owner: Annotated[str, typer.Option(help="Who answers for it.")] = "",
    starts: StartsOption = None,
    expires: EndsOption = None,
    review: ReviewOption = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Edit your own request before it is decided. What you leave out stays."""
    with client(context) as service:
        held = service.exception(name)
        kept = [
            ConditionRequest(
                text=c.text,
                fact_condition=c.fact_condition,
                due_on=c.due_on if c.kind == "attested" else None,
                every_days=c.every_days,
            )
            for c in held.conditions
        ]
        terms = ExceptionTermsRequest(
            reason=reason or held.reason,
            conditions=_conditions(condition, check) if condition or check else kept,
            owner=owner or held.owner,
            start_on=starts.date() if starts else held.start_on,
            expires_on=expires.date() if expires else held.expires_on,
            review_on=review.date() if review else held.review_on,
        )
        found = service.edit_exception(name, held.version, terms)
    print_exceptions(form, [found])


def _decide_all(context: typer.Context, names: list[str], move: MoveName, note: str, form: OutputFormat) -> None:
    """Make the same move on several exceptions: all of them, or none."""
    with client(context) as service:
        seen = {name: service.exception(name).version for name in names}
        print_exceptions(form, service.decide_exceptions(seen, move, note))


def _decide(
    context: typer.Context,
    name: str,
    move: MoveName,
    note: str,
    form: OutputFormat,
    devices: list[str] | None = None,
    requirements: list[str] | None = None,
) -> ExceptionResponse:
    with client(context) as service:
        version = service.exception(name).version
        found = service.decide_exception(name, move, version, note, devices or (), requirements or ())
    print_exceptions(form, [found])
    return found


@app.command()
@reports_errors
def approve(
    context: typer.Context,
    names: NamesArgument,
    note: NoteOption = "",
    device: Annotated[
        list[str] | None, typer.Option("--device", "-d", help="Only this device of it; repeat for more.")
    ] = None,
    requirement: Annotated[
        list[str] | None, typer.Option("--requirement", "-q", help="Only this requirement of it; repeat for more.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Approve requests, or a part of one, on the findings as they are now. Not your own."""
    if len(names) > 1:
        if device or requirement:
            fail(
                USAGE, "A part can only be approved of one exception", "Name one, or leave out --device, --requirement"
            )
        _decide_all(context, names, "approve", note, form)
        say("Next: [bold]doorstone kit cases[/]")
        return
    found = _decide(context, names[0], "approve", note, form, device, requirement)
    if found.state == "requested":
        left = found.approvals_needed - len(found.approvals)
        say(f"It takes {found.approvals_needed} approvers: {left} more.")
        return
    for what, why in found.left_out.items():
        say(f"Not approved: [bold]{escape(what)}[/]: {escape(why)}")
    say("Next: [bold]doorstone kit make[/] DEVICE")


@app.command()
@reports_errors
def decline(
    context: typer.Context, names: NamesArgument, note: NoteOption, form: FormOption = OutputFormat.TABLE
) -> None:
    """Decline requests, saying why."""
    _decide_all(context, names, "decline", note, form)


@app.command()
@reports_errors
def confirm(
    context: typer.Context,
    name: NameArgument,
    note: NoteOption,
    device: DeviceOption = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Confirm a stale approval on today's findings."""
    _decide(context, name, "confirm", note, form, device)


@app.command()
@reports_errors
def revoke(
    context: typer.Context,
    names: NamesArgument,
    note: NoteOption,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Revoke approved exceptions, after showing what must then be done for their devices."""
    with client(context) as service:
        relying = sum(_consequences(service, name, form) for name in names)
    which = ", ".join(names)
    if relying and not yes and not typer.confirm(f"{relying} devices rely on {which}. Revoke?", err=True):
        fail(REFUSED, "Nothing was revoked", "Correct the devices first, or add --yes")
    _decide_all(context, names, "revoke", note, form)


def _consequences(service: Client, name: str, form: OutputFormat) -> int:
    found = service.consequences(name)
    if form is OutputFormat.TABLE:
        for one in found:
            out().print(f"[bold]{escape(one.device)}[/]: {escape('. '.join(one.steps))}.")
    return sum(one.relies for one in found)


@app.command()
@reports_errors
def close(
    context: typer.Context, names: NamesArgument, note: NoteOption = "", form: FormOption = OutputFormat.TABLE
) -> None:
    """Close approved exceptions that are no longer needed."""
    _decide_all(context, names, "close", note, form)


@app.command()
@reports_errors
def withdraw(context: typer.Context, name: NameArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Withdraw your own request."""
    with client(context) as service:
        found = service.withdraw_exception(name, service.exception(name).version)
    print_exceptions(form, [found])


activity.add_to(app)
folder.add_to(app)
