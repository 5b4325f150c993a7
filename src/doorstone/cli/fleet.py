"""The fleet: counts, comparison, what-if, fixes, saved selections."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

import typer

from doorstone.api.devices import SelectionRequest
from doorstone.api.fixes import FixDoneRequest
from doorstone.api.fleet import ShiftResponse, SortScenario, WhatIfRequest
from doorstone.cli.connection import client, the_platform
from doorstone.cli.filters import (
    ModelOption,
    PlatformOption,
    ReleaseOption,
    RequirementOption,
    RoleOption,
    SelectionOption,
    SiteOption,
    StateOption,
    WordsOption,
    filter_of,
    filter_options,
)
from doorstone.cli.output import USAGE, FormOption, OutputFormat, fail, out, reports_errors, say, show
from doorstone.cli.record_files import add_import

VISITS, MOST_VISITS = 100, 10_000  # devices listed of an action at a site: in a table, and as data

fleet_app = typer.Typer(no_args_is_help=True)
fix_app = typer.Typer(no_args_is_help=True)
selection_app = typer.Typer(no_args_is_help=True)


@fleet_app.command("show")
@reports_errors
def show_fleet(
    context: typer.Context,
    by: Annotated[str, typer.Option(help="Group by site, model, role or runs.")] = "site",
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    selection: SelectionOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    requirement: RequirementOption = "",
    words: WordsOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Count devices by state, in groups, and show which requirements fail together."""
    where = filter_options(state=state, site=site, role=role, model=model, requirement=requirement, words=words)
    with client(context) as service:
        known = the_platform(service, platform)
        found = service.fleet(known.id, release=release, selection=selection, by=by, **where)
    states = list(found.states)
    rows = [[g.name, *(g.states.get(s, "") for s in states), g.devices] for g in found.groups]
    title = f"{known.name} towards {found.release}: " + ", ".join(f"{n} {s}" for s, n in found.states.items())
    columns = [by, *(state.replace("-", " ") for state in states), "devices"]
    show(form, found, columns, rows, title, typed=([by, *states, "devices"], rows))
    if form is OutputFormat.TABLE:
        together = [[c.devices, c.requirements] for c in found.combinations[:10]]
        show(form, None, ["devices", "fail together"], together, "\nWhat fails together")


@fleet_app.command("compare")
@reports_errors
def compare(
    context: typer.Context,
    release: Annotated[list[str], typer.Option("--release", "-r", help="A target release; give two to compare.")],
    route: Annotated[list[str] | None, typer.Option(help="in-place or clean; give two to compare.")] = None,
    platform: PlatformOption = "",
    selection: SelectionOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Compare two releases or two routes: devices by state, and the devices that differ."""
    routes = route or ["in-place"]
    if not 1 <= len(release) <= 2 or len(routes) > 2:
        fail(USAGE, "Two sides are compared", "Give --release once or twice, --route once or twice")
    where = filter_options(site=site, role=role, model=model, selection=selection)
    with client(context) as service:
        known = the_platform(service, platform)
        sides = {"release": release[0], "route": routes[0], "other_release": release[-1], "other_route": routes[-1]}
        found = service.compare_fleet(known.id, **sides, **where)
    names = list(dict.fromkeys([*found.one.outcomes, *found.other.outcomes]))
    columns = ["state", f"{found.one.release} {found.one.route}", f"{found.other.release} {found.other.route}"]
    rows = [[name, found.one.outcomes.get(name, 0), found.other.outcomes.get(name, 0)] for name in names]
    show(form, found, columns, rows, f"{found.devices} devices of {known.name}")
    if form is OutputFormat.TABLE:
        _print_shifts(found.shifts, "Come out differently")
        for side in (found.one, found.other):
            if side.uncovered:
                checks = ", ".join(f"{name} on {n}" for name, n in side.uncovered.items())
                out().print(f"\nIn the way of {side.release} {side.route}: {checks}")


def _print_shifts(shifts: list[ShiftResponse], title: str) -> None:
    rows = [[s.one, s.other, s.count, s.devices[:5]] for s in shifts]
    if rows:
        show(OutputFormat.TABLE, None, ["from", "to", "devices", "such as"], rows, f"\n{title}")


@fleet_app.command("forecast")
@reports_errors
def forecast(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Forecast the fleet: how many devices leave servicing in each month, why, and which course each takes."""
    with client(context) as service:
        known = the_platform(service, platform)
        found = service.fleet_forecast(known.id, release)
    rows = [
        [m.month, m.technical, m.approved, [f"{n} {why}" for why, n in sorted(m.causes.items())]] for m in found.months
    ]
    title = f"{known.name}, {found.devices} devices, as of {found.as_of}: when they leave servicing"
    show(form, found, ["month", "technically", "as approved", "technically ended by"], rows, title)
    if form is OutputFormat.TABLE:
        out().print("\nCourses: " + ", ".join(f"{n} {way}" for way, n in found.courses.items()))
        if found.past or found.unknown:
            out().print(f"Out of servicing already: {found.past}. Nothing known of {found.unknown}.")


@fleet_app.command("what-if")
@reports_errors
def what_if(
    context: typer.Context,
    fix: Annotated[list[str] | None, typer.Option(help="Title of a fix that would be made; repeat it.")] = None,
    all_fixes: Annotated[bool, typer.Option("--all-fixes", help="Every fix that applies would be made.")] = False,
    sort: Annotated[
        list[str] | None, typer.Option(help="REQUIREMENT=SORT or REQUIREMENT=SORT@MODEL that would be decided.")
    ] = None,
    approve: Annotated[list[str] | None, typer.Option(help="A check that would be excepted; repeat it.")] = None,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    selection: SelectionOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    requirement: RequirementOption = "",
    words: WordsOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Count devices before and after fixes, sorts and approvals that are only supposed."""
    where = filter_of(state=state, site=site, role=role, model=model, requirement=requirement, words=words)
    with client(context) as service:
        known = the_platform(service, platform)
        request = WhatIfRequest(
            platform=known.id,
            release=release,
            selection=selection,
            where=where,
            fixes=fix or [],
            all_fixes=all_fixes,
            sorts=[_sort(word) for word in sort or []],
            approve=approve or [],
        )
        found = service.what_if(request)
    names = list(dict.fromkeys([*found.before, *found.after]))
    rows = [[name, found.before.get(name, 0), found.after.get(name, 0)] for name in names]
    show(form, found, ["state", "before", "after"], rows, f"{found.devices} devices towards {found.release}")
    if form is OutputFormat.TABLE:
        _print_shifts(found.moves, "Would move")
        if found.fixes_made:
            hours, minutes = divmod(found.minutes, 60)
            out().print(f"\n{found.fixes_made} fixes, {hours} h {minutes} min, {found.cost} for parts")


def _sort(word: str) -> SortScenario:
    name, _, rest = word.partition("=")
    sort, _, model = rest.partition("@")
    return SortScenario.model_validate({"requirement": name, "sort": sort, "model": model})


# --------------------------------------------------------------------- fixes


@fix_app.command("list")
@reports_errors
def list_fixes(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    selection: SelectionOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    words: WordsOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List the fixes worth making, by site and action, and the parts to buy: a list for a round of the sites."""
    where = filter_options(state=state, site=site, role=role, model=model, words=words, selection=selection)
    with client(context) as service:
        known = the_platform(service, platform)
        if form is OutputFormat.CSV:
            typer.echo(service.fix_round_csv(known.id, release=release, **where), nl=False)
            return
        listed = VISITS if form is OutputFormat.TABLE else MOST_VISITS
        found = service.fix_round(known.id, release=release, visits=listed, **where)
    rows: list[list[Any]] = []
    for one in found.sites:
        for action in one.actions:
            devices = [visit.device for visit in action.visits]
            if action.count > len(devices):
                devices.append(f"and {action.count - len(devices):,} more: choose a site or model, or --format csv")
            rows.append([one.site, action.title, devices, action.count * action.minutes, action.count * action.cost])
    title = f"{found.devices} devices, {found.minutes // 60} h {found.minutes % 60} min, {found.cost} for parts"
    show(form, found, ["site", "action", "devices", "minutes", "cost"], rows, title)
    if form is OutputFormat.TABLE:
        for part in found.parts:
            out().print(f"\nBuy: {part.count} × {part.title}, {part.cost}")
        if found.pointless:
            out().print(f"\nLeft out: {found.pointless} devices that stay floored whatever is fixed.")


@fix_app.command("show")
@reports_errors
def show_fixes(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    release: ReleaseOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show a device's fixes in order, which fix makes another unnecessary, and its state after them."""
    with client(context) as service:
        found = service.device_fixes(device, release)
    rows = []
    for at, step in enumerate(found.steps, 1):
        words = f"{step.fix.title} ({step.recorded})" if step.recorded else step.fix.title
        rows.append([at, words, step.fix.minutes, step.fix.cost, step.meets])
    title = f"{device} towards {found.release}"
    if rows or form is not OutputFormat.TABLE:
        show(form, found, ["step", "fix", "minutes", "cost", "then met"], rows, title)
    else:
        out().print(f"{title}: {found.state}; there is nothing to fix.")
    if form is OutputFormat.TABLE:
        for words in dict.fromkeys(step.stop for step in found.steps if step.stop):
            out().print(f"\n[bold red]Stop:[/] {words}.")
        for spared in found.spared:
            out().print(f"\nNot needed: {spared.fix.title}. {spared.requirement} is met after “{spared.after}”.")
        left = f" Left: {', '.join(found.left)}." if found.left else ""
        if rows:
            out().print(f"\n{found.minutes} min, {found.cost}. Now {found.state}, then {found.after}.{left}")
        if not found.exact:
            out().print("More than 16 fixes touch one another: each requirement's own cheapest is shown.")
        for one in found.done:
            what = one.outcome if one.word == one.outcome else f"{one.outcome}; {one.word}"
            seen = f": {one.seen}" if one.seen else f": {one.note}" if one.note else ""
            out().print(f"\n{one.id}, {one.done_at.date()}, {one.by}: {one.title}, {what}{seen}")


@fix_app.command("record")
@reports_errors
def record_fix(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    title: Annotated[str, typer.Argument(help="The fix, as 'fix show' calls it.")],
    failed: Annotated[bool, typer.Option("--failed", help="It was tried and did not work; say why in --note.")] = False,
    done: Annotated[
        datetime | None, typer.Option(formats=["%Y-%m-%dT%H:%M", "%Y-%m-%d"], help="When it was made; now if left out.")
    ] = None,
    note: Annotated[str, typer.Option(help="What happened.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record a fix as done, or as tried and failed. What it gives is believed until the next reading."""
    request = FixDoneRequest(title=title, outcome="failed" if failed else "done", done_at=done, note=note)
    with client(context) as service:
        found = service.record_fix(device, request)
    show(form, found, ["fix", "device", "title", "outcome", "stands"],
         [[found.id, found.device, found.title, found.outcome, found.word]])  # fmt: skip
    if form is OutputFormat.TABLE and not failed:
        say(f"Read the device again to prove it. Then: [bold]doorstone device show[/] {device}")


add_import(fix_app, "fixes", "Record fixes from a file, all or none: device, title, outcome, done_at, note.")


# ---------------------------------------------------------------- selections


@selection_app.command("list")
@reports_errors
def list_selections(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List saved selections."""
    with client(context) as service:
        found = service.selections()
    rows = [
        [s.name, s.platform, s.release, [f"{k}: {v}" for k, v in s.where.model_dump().items() if v], s.by]
        for s in found
    ]
    show(form, found, ["selection", "platform", "release", "where", "by"], rows)


@selection_app.command("save")
@reports_errors
def save_selection(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="A name for it.")],
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    requirement: RequirementOption = "",
    words: WordsOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Save a choice of devices; the same name again replaces it."""
    where = filter_of(state=state, site=site, role=role, model=model, requirement=requirement, words=words)
    with client(context) as service:
        known = the_platform(service, platform)
        found = service.save_selection(name, SelectionRequest(platform=known.id, release=release, where=where))
    show(form, found, ["selection", "platform"], [[found.name, found.platform]])
    say(f'Use it: [bold]doorstone fleet show --selection "{name}"[/]')


@selection_app.command("delete")
@reports_errors
def delete_selection(context: typer.Context, name: Annotated[str, typer.Argument(help="Its name.")]) -> None:
    """Delete a selection."""
    with client(context) as service:
        service.delete_selection(name)
    say(f"{name} is forgotten.")
