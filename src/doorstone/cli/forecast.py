"""Follow-ups, drift, forecasts under several assumptions, costs, what-if, a plan for a budget."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from decimal import Decimal
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer
from pydantic import ValidationError

from doorstone.api.followups import FollowUpRequest, FollowUpResponse, VerifiedResponse, VerifyReportRequest
from doorstone.api.forecast import BudgetRequest, ScenarioComparisonResponse, ScenarioRequest
from doorstone.cli.attempts import line_words
from doorstone.cli.connection import client
from doorstone.cli.devices import DeviceArgument
from doorstone.cli.filters import (
    ModelOption,
    PlatformOption,
    RoleOption,
    SelectionOption,
    SiteOption,
    StateOption,
    filter_of,
)
from doorstone.cli.output import BAD_INPUT, USAGE, FormOption, OutputFormat, fail, out, reports_errors, say, show
from doorstone.cli.record_files import add_import

follow_up_app = typer.Typer(no_args_is_help=True)


class StepState(StrEnum):
    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"


class HowItRuns(StrEnum):
    AS_BEFORE = "as-before"
    SLOWER = "slower"
    FASTER = "faster"


def _steps(form: OutputFormat, data: object, steps: list[FollowUpResponse], title: str = "") -> None:
    rows = [
        [
            s.id,
            s.due_on,
            f"{s.title}{' (blocking)' if s.blocking else ''}",
            " ".join(filter(None, (s.state, s.answer))),
            s.reason or (s.todo if s.state == "open" else ""),
        ]
        for s in steps
    ]
    show(form, data, ["follow-up", "by", "what", "state", "to do, or why"], rows, title)


@follow_up_app.command("list")
@reports_errors
def list_steps(context: typer.Context, device: DeviceArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """List the follow-ups of a device's last upgrade, blocking ones first."""
    with client(context) as service:
        found = service.follow_ups(device)
    back = f"; it can go back through {found.rollback_until}" if found.rollback_until else ""
    _steps(form, found, found.steps, f"{device} after {found.attempt or 'no upgrade'}{back}")
    if form is OutputFormat.TABLE and found.blocked:
        say("It is not finished: something that blocks is open.")


@follow_up_app.command("settle")
@reports_errors
def settle_step(
    context: typer.Context,
    name: Annotated[str, typer.Argument(metavar="FOLLOW-UP", help="Its id, such as FU-0001.")],
    state: Annotated[StepState, typer.Argument(help="What came of it.")],
    answer: Annotated[HowItRuns | None, typer.Option(help="How the device runs, where that is asked.")] = None,
    reason: Annotated[str, typer.Option(help="Why it failed or is skipped.")] = "",
    confirm: Annotated[bool, typer.Option("--confirm", help="Confirm that rollback ends.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record the outcome of a follow-up. One that ends rollback asks for confirmation."""
    request = FollowUpRequest(state=state.value, answer=answer.value if answer else "", reason=reason, confirm=confirm)
    with client(context) as service:
        found = service.settle_follow_up(name, request)
    _steps(form, found, [found])


add_import(
    follow_up_app,
    "follow-ups",
    "Settle follow-ups from a file, all or none: device, step (its name or id), state, answer.",
)


@follow_up_app.command("verified")
@reports_errors
def verified(
    context: typer.Context,
    device: DeviceArgument,
    report: Annotated[
        Path | None, typer.Argument(exists=True, allow_dash=True, help="What verify printed; - for standard input.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record the report of a kit's verify on a device; without a report, show earlier ones and what has drifted."""
    with client(context) as service:
        if report is None:
            found = service.verifications(device)
        else:
            text = sys.stdin.read() if str(report) == "-" else report.read_text("utf-8")
            try:
                request = VerifyReportRequest.model_validate_json(text)
            except ValidationError:
                fail(BAD_INPUT, f"{report} is not what verify prints", "Give the output of 'sh KIT/verify'")
            found = [service.add_verification(device, request)]
    rows = [[v.id, v.at, v.kit, "all right" if v.ok else _wrong(v), _drift(v)] for v in found]
    show(form, found, ["asked", "at", "kit", "said", "changed since the time before"], rows)


def _wrong(one: VerifiedResponse) -> list[str]:
    return [f"{row['name']} {row['state']}" for row in one.settings if row["state"] != "right"]


def _drift(one: VerifiedResponse) -> list[str]:
    return [f"{c.setting}: {c.was}, now {c.now}" for c in one.changed]


# ------------------------------------------------------------------------ scenarios


@reports_errors
def scenarios(context: typer.Context, device: DeviceArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Compare a device's forecast under several assumptions, and what each way costs."""
    with client(context) as service:
        found = service.scenarios(device)
    rows = [
        [a.assumption, a.technical.runway, a.technical.ended_by, a.approved.runway, a.approved.ended_by]
        for a in found.assumed
    ]
    columns = ["assuming", "technically", "ended by", "as approved", "ended by"]
    show(form, found, columns, rows, f"{device}, as of {found.as_of}")
    if form is OutputFormat.TABLE:
        _more(found)


def _more(found: ScenarioComparisonResponse) -> None:
    if found.exceptions:
        out().print()
        weights = [
            [e.exception, e.requirements, e.with_it, e.without_it, e.fixed_technical, "yes" if e.changes else "no"]
            for e in found.exceptions
        ]
        columns = ["exception", "for", "approved with it", "without it", "technically if fixed", "matters"]
        show(OutputFormat.TABLE, None, columns, weights)
    out().print()
    ways = [[w.way, w.until, w.months, w.added, w.cost, w.per_month, w.how] for w in found.ways]
    columns = ["way", "until", "months", "bought", "cost", "per month bought", "how"]
    show(OutputFormat.TABLE, None, columns, ways, "What each way costs")


@reports_errors
def suppose(
    context: typer.Context,
    device: Annotated[str, typer.Argument(metavar="[DEVICE]", help="A device; the fleet if left out.")] = "",
    platform: PlatformOption = "",
    published: Annotated[list[str] | None, typer.Option(help="RELEASE=DAY of publication.")] = None,
    serviced: Annotated[list[str] | None, typer.Option(help="RELEASE=DAY, the last serviced one.")] = None,
    ends: Annotated[list[str] | None, typer.Option(help="OVERRIDE=RELEASE it ends at; OVERRIDE= for none.")] = None,
    fixed: Annotated[list[str] | None, typer.Option(help="A requirement taken as met.")] = None,
    granted: Annotated[list[str] | None, typer.Option(help="A requirement taken as excepted.")] = None,
    sort: Annotated[list[str] | None, typer.Option(help="REQUIREMENT=SORT.")] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Suppose other dates, ends, fixes, approvals or sorts, and see the forecast before and after."""
    given: dict[str, Any] = {
        "published": _pairs("published", published),
        "serviced": _pairs("serviced", serviced),
        "ends": _pairs("ends", ends),
        "fixed": fixed or [],
        "granted": granted or [],
        "sorts": _pairs("sort", sort),
    }
    request = ScenarioRequest.model_validate(given)
    with client(context) as service:
        if device:
            one = service.what_if_device(device, request)
            rows = [
                [name, line.runway, line.ended_by]
                for name, line in (
                    ("technically, as it is", one.before.technical),
                    ("technically, supposed", one.after.technical),
                    ("as approved, as it is", one.before.approved),
                    ("as approved, supposed", one.after.approved),
                )
            ]
            show(form, one, ["assumption", "serviced through", "ended by"], rows, device)
            if form is OutputFormat.TABLE:
                out().print(f"\nSupposed: {line_words(one.after.technical)}")
            return
        found = service.what_if_fleet(platform or service.platforms()[0].id, request)
    months = [[m.month, m.before, m.after] for m in found.months]
    show(form, found, ["last serviced month", "devices today", "supposed"], months)
    say(
        f"{found.longer} devices stay serviced longer, {found.shorter} shorter; {found.gained_days} device-days in all."
    )


def _pairs(option: str, words: list[str] | None) -> dict[str, str]:
    found = {}
    for word in words or ():
        name, equals, value = word.partition("=")
        if not equals:
            fail(USAGE, f"--{option} {word!r} has no value", f"Write --{option} NAME=VALUE")
        found[name] = value
    return found


@reports_errors
def budget(
    context: typer.Context,
    budgets: Annotated[list[str], typer.Argument(metavar="BUDGET", help="Amounts of money, side by side.")],
    platform: PlatformOption = "",
    page: Annotated[
        Path | None, typer.Option("--page", dir_okay=False, help="Write it as an HTML page to print.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Write a budget paper: budgets side by side, replacements per quarter, prices, minimum specification."""
    try:
        amounts = [Decimal(word) for word in budgets]
    except ArithmeticError:
        fail(USAGE, f"{' '.join(budgets)!r} are no amounts of money", "Give numbers: 5000 20000")
    with client(context) as service:
        named = platform or service.platforms()[0].id
        if page is not None:
            page.write_bytes(service.budget_paper_page(named, amounts))
            say(f"Written to {page}")
            return
        if form is OutputFormat.CSV:
            typer.echo(service.budget_paper_csv(named, amounts), nl=False)
            return
        found = service.budget_paper(named, amounts)
    columns = ["budget", "spent", "serviced device-months", "devices by way"]
    rows = [[b.budget, b.cost, b.months, [f"{n} {way}" for way, n in b.ways.items()]] for b in found.budgets]
    show(form, found, columns, rows, f"{found.name}, {found.devices} devices, as of {found.as_of}")
    if form is not OutputFormat.TABLE:
        return
    columns = ["quarter", "first by", "devices", "each", "cost", "runway ends because"]
    rows = [[q.label, q.first_end, q.devices, q.price, q.cost, _counted(q.ends)] for q in found.replacements.quarters]
    show(form, None, columns, rows, "\nReplacements per quarter")
    if found.replacements.beyond:
        until = found.replacements.beyond_until
        out().print(
            f"{found.replacements.beyond} need none as far as the sheet looks, the first of them until {until}."
        )
    if found.replacements.unknown:
        out().print("Not known before it is read or settled: " + "; ".join(_counted(found.replacements.unknown)) + ".")
    prices = [[p.since, p.price] for p in found.prices]
    show(form, None, ["from", "a new device"], prices, "\nPrice list")
    columns = ["part", "asks", "without it", "requirement"]
    rows = [
        [s.title, s.asks, f"{s.floor_from} does not run" if s.floor_from else "set-up refuses", s.requirement]
        for s in found.specification
    ]
    show(form, None, columns, rows, "\nMinimum specification of a new machine")


def _counted(ends: Mapping[str, int]) -> list[str]:
    return [f"{why} ({devices})" for why, devices in ends.items()]


@reports_errors
def plan(
    context: typer.Context,
    budget: Annotated[str, typer.Argument(help="The budget.")],
    platform: PlatformOption = "",
    selection: SelectionOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    without: Annotated[list[str] | None, typer.Option(help="Leave a way out: except, extend, replace...")] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Plan a budget: which way each device takes so that it buys the most serviced device-months."""
    where = filter_of(state=state, site=site, role=role, model=model)
    with client(context) as service:
        given = {"platform": platform or service.platforms()[0].id, "budget": budget, "selection": selection}
        try:
            request = BudgetRequest.model_validate({**given, "where": where, "without": without or []})
            Decimal(budget)
        except (ValidationError, ArithmeticError):
            fail(USAGE, f"{budget!r} or {without!r} cannot be planned with", "Give a number, and ways by their names")
        if form is OutputFormat.CSV:
            typer.echo(service.budget_plan_csv(request), nl=False)
            return
        found = service.budget_plan(request)
    rows = [
        [line.way, line.count, line.model, line.each, line.cost, line.months_each, line.how] for line in found.lines
    ]
    columns = ["way", "devices", "model", "each", "cost", "months each", "how"]
    title = f"{found.cost} of {found.budget} for {found.devices} devices: {found.months} serviced device-months"
    show(form, found, columns, rows, title)
    if form is OutputFormat.TABLE:
        say(f"Without money {found.without_money}; no plan for this budget gives more than {found.at_most}.")
