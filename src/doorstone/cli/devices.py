"""Devices: list them, look at one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Annotated, Any

import typer

from doorstone.api.common import UncoveredBrief
from doorstone.api.devices import (
    CourseResponse,
    DevicesChangeRequest,
    LifeRequest,
    LifeResponse,
    ReadingResponse,
    SettlementRequest,
)
from doorstone.api.sorting import AssessmentResponse
from doorstone.cli.connection import client, the_platform
from doorstone.cli.filters import (
    ModelOption,
    PlatformOption,
    ReleaseOption,
    RequirementOption,
    SelectionOption,
    SiteOption,
    StateOption,
    WordsOption,
)
from doorstone.cli.output import LEGEND, MARKS, FormOption, OutputFormat, out, reports_errors, say, show, strip
from doorstone.cli.record_files import add_import

app = typer.Typer(no_args_is_help=True)
DeviceArgument = Annotated[str, typer.Argument(help="Device id.")]


@app.command("list")
@reports_errors
def list_devices(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    model: ModelOption = "",
    requirement: RequirementOption = "",
    words: WordsOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List devices with their state against a release."""
    with client(context) as service:
        known = the_platform(service, platform)
        target = release or known.target
        where = {"state": state, "site": site, "model": model, "requirement": requirement, "words": words}
        found = list(service.devices(known.id, release=target, **where))
    rows = [[d.id, d.site, d.model, d.release, d.state, strip(d.marks), d.runway] for d in found]
    columns = ["device", "site", "model", "runs", f"for {target}", "findings", "runway"]
    asked = list(found[0].marks) if found else []
    about = ["device", "name", "site", "role", "critical", "model", "runs", "edition", "target", "state"]
    every = [
        [d.id, d.name, d.site, d.role, d.critical, d.model, d.release, d.edition, target, d.state,
         *(d.marks.get(name, "") for name in asked), d.runway]
        for d in found
    ]  # fmt: skip
    show(form, found, columns, rows, typed=([*about, *asked, "runway"], every))
    if form is OutputFormat.TABLE:
        say(LEGEND)
        say(f"{len(found)} device{'' if len(found) == 1 else 's'}. One of them: [bold]doorstone device show[/] DEVICE")


@app.command("show")
@reports_errors
def show_device(
    context: typer.Context, device: DeviceArgument, release: ReleaseOption = "", form: FormOption = OutputFormat.TABLE
) -> None:
    """Show a device: every finding against a release, why, and the course."""
    with client(context) as service:
        detail = service.device(device, release)
        assessment = service.assessment(device, release)
    if form is OutputFormat.JSON:
        show(form, {"detail": detail.model_dump(mode="json"), "assessment": assessment.model_dump(mode="json")}, [], [])
        return
    d = detail.device
    title = f"{d.id}  {d.model}  {d.site}  on {d.release}, towards {assessment.release}: "
    title += assessment.state if d.state else "not in service"
    print_findings(form, assessment, title)
    if form is OutputFormat.TABLE and detail.life and detail.life.life != "in-service":
        out().print(f"\n[bold]{life_words(detail.life)}[/]")
    if form is OutputFormat.TABLE and detail.uncovered:
        out().print(f"\n{uncovered_words(detail.uncovered, d.id, d.release)}")
    if form is OutputFormat.TABLE and detail.course:
        out().print(f"\n{course_words(detail.course)}")
    if form is OutputFormat.TABLE and detail.verdicts:
        verdicts = [
            [v.source, v.taken_at.date(), v.requirement, "pass" if v.passed else "fail"] for v in detail.verdicts
        ]
        show(form, None, ["source", "on", "requirement", "says"], verdicts, "\nVerdicts of the sources")


@app.command("readings")
@reports_errors
def list_readings(
    context: typer.Context,
    device: DeviceArgument,
    fact: Annotated[list[str] | None, typer.Option(help="Show the values of this fact; repeat for several.")] = None,
    most: Annotated[int, typer.Option(min=1, help="At most so many.")] = 30,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List the readings of a device that are kept, newest first. JSON and CSV hold every value.

    With --fact: only the readings that hold one of these facts, and its values.
    """
    facts = fact or []
    with client(context) as service:
        every = (one for one in service.device_readings(device) if not facts or not one.facts.keys().isdisjoint(facts))
        found = list(islice(every, most))
    columns = ["read at", "source", *(facts or ["facts", "verdicts", "not read", "failure messages"])]
    rows = [
        [one.taken_at, one.source, *([one.facts.get(name) for name in facts] if facts else _summary(one))]
        for one in found
    ]
    values = [[one.taken_at, one.source, *line] for one in found for line in _values(one, facts)]
    show(form, found, columns, rows, typed=(["taken_at", "source", "kind", "name", "value"], values))
    if facts and not found:
        say(f"No reading holds {' or '.join(facts)}. All: [bold]doorstone device readings {device} --format csv[/]")
    elif form is OutputFormat.TABLE and found and not facts:
        say(f"The values of a fact over time: [bold]doorstone device readings {device} --fact[/] FACT")


_PASSED = {True: "pass", False: "fail"}


def _summary(one: ReadingResponse) -> list[Any]:
    """How many facts a reading holds, and what it holds beside them."""
    verdicts = [f"{name} {_PASSED[passed]}" for name, passed in one.verdicts.items()]
    return [len(one.facts), verdicts, list(one.unread), one.texts]


def _values(one: ReadingResponse, facts: Sequence[str]) -> Iterator[tuple[str, str, Any]]:
    """All that a reading holds, or the values of these facts, each with its kind and its name."""
    yield from (("fact", name, value) for name, value in one.facts.items() if not facts or name in facts)
    if not facts:
        yield from (("verdict", name, _PASSED[passed]) for name, passed in one.verdicts.items())
        yield from (("unread", name, why) for name, why in one.unread.items())
        yield from (("failure message", "", text) for text in one.texts)


def life_words(life: LifeResponse) -> str:
    """The life of a device that is not in service, as a sentence."""
    more = f", by {life.replaced_by}" if life.replaced_by else f", look again on {life.look_on}" if life.look_on else ""
    return f"Not in service: {_words(life.life)} since {life.on}{more}. {life.reason.rstrip('.')}."


def uncovered_words(found: UncoveredBrief, device: str, release: str) -> str:
    """That a device runs its release without permission, in words."""
    since = f"since {found.since}" if found.exact else f"since at least {found.since}"
    checks = ", ".join(found.requirements)
    return (
        f"[bold red]Uncovered:[/] it runs {release} without a valid exception for {checks} {since}. "
        f"What to do: [bold]doorstone exception uncovered --device {device}[/]"
    )


def course_words(course: CourseResponse) -> str:
    """The course as a sentence."""
    until = "until" if course.way == "stay" else "by"
    by = f" {until} {course.by}" if course.by else ""
    return f"Course: [bold]{course.way}[/]{by}. {course.why}."


def print_findings(form: OutputFormat, assessment: AssessmentResponse, title: str) -> None:
    """One row per requirement that is not met: the mark, what is required and measured, and what to do."""
    rows = []
    shown = [f for f in assessment.findings if form is not OutputFormat.TABLE or f.mark != "met"]
    for f in shown:
        wrong = [leaf for leaf in f.leaves if leaf.outcome != "met"] or f.leaves
        measured = [f"{leaf.fact}: {leaf.measured or 'unread'}" for leaf in wrong]
        required = [leaf.required for leaf in wrong]
        fix = "; ".join(
            f"{x.title} ({x.minutes} min, {x.cost})" + (f", {x.recorded}" if x.recorded else "") for x in f.fixes
        )
        if f.mark == "disputed":
            fix = f"Sources disagree. See: doorstone dispute list --device {title.split()[0]}" if title else ""
        rows.append([f.requirement.id, f.mark, required, measured, fix or f.requirement.because])
    columns = ["requirement", "finding", "required", "measured", "fix, or why"]
    if rows or form is not OutputFormat.TABLE:
        show(form, assessment, columns, rows, title)
    else:
        out().print(f"[bold]{title}[/]")
    met = [f.requirement.id for f in assessment.findings if f.mark == "met"]
    if form is OutputFormat.TABLE and met:
        out().print(f"\n{MARKS['met']}: {', '.join(met)}")


@app.command("change")
@reports_errors
def change_device(
    context: typer.Context,
    note: Annotated[str, typer.Option(help="Why; it stands in the ledger.")],
    devices: Annotated[list[str] | None, typer.Argument(help="Device ids.")] = None,
    selection: SelectionOption = "",
    at_site: Annotated[
        str, typer.Option("--at-site", help="Every device at this site, of whatever platform: a site that closes.")
    ] = "",
    site: Annotated[str | None, typer.Option(help="The site where it stands.")] = None,
    role: Annotated[str | None, typer.Option(help="What it is there for.")] = None,
    critical: Annotated[
        bool | None,
        typer.Option("--critical/--not-critical", help="Whether the device is critical to the organisation."),
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Change a device's site, role or criticality. Approvals that rely on them need a second look."""
    request = DevicesChangeRequest(
        devices=devices or [], selection=selection, at_site=at_site, site=site, role=role, critical=critical, note=note
    )
    with client(context) as service:
        found = service.change_devices(request)
    rows = []
    for one in found:
        words = [f"{key} was {_in_words(was)}, is {_in_words(one.now[key])}" for key, was in one.was.items()]
        rows.append([one.device, words, one.stale])
    show(form, found, ["device", "what changed", "look again at"], rows)


def _in_words(value: str | bool) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return value or "none"


@app.command("unplaced")
@reports_errors
def list_unplaced(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List devices of which no sheet knows the platform or release, with what to do."""
    with client(context) as service:
        found = service.unplaced()
    rows = [[u.device, u.site, u.reason.replace("-", " "), u.value, u.hint, u.last_read_at] for u in found]
    show(form, found, ["device", "site", "why", "says", "what to do", "last read"], rows)
    if form is OutputFormat.TABLE and not found:
        say("None: a sheet knows every device.")


# ------------------------------------------------------------------- lives

Many = Annotated[list[str] | None, typer.Argument(help="Device ids.")]
ReasonOption = Annotated[str, typer.Option(help="Why, in a sentence; it stands in the ledger.")]
OnOption = Annotated[str, typer.Option(help="Since when, YYYY-MM-DD; today if left out.", show_default=False)]
AtSiteOption = Annotated[str, typer.Option("--site", help="Every device at this site, of whatever platform.")]
WipedOption = Annotated[str, typer.Option("--wiped-by", help="Who erased its data.")]


@app.command("set-aside")
@reports_errors
def set_aside(
    context: typer.Context,
    reason: ReasonOption,
    look_on: Annotated[str, typer.Option("--look-on", help="The day to look again, YYYY-MM-DD.")],
    devices: Many = None,
    selection: SelectionOption = "",
    site: AtSiteOption = "",
    on: OnOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Set devices aside for a time: they do not count and have nothing due; their exceptions stay."""
    chosen = {"devices": devices or [], "selection": selection, "site": site}
    _change_lives(context, form, life="set-aside", reason=reason, look_on=look_on, on=on, **chosen)


@app.command("retire")
@reports_errors
def retire(
    context: typer.Context,
    reason: ReasonOption,
    devices: Many = None,
    selection: SelectionOption = "",
    site: AtSiteOption = "",
    wiped_by: WipedOption = "",
    on: OnOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Retire devices: they keep their history, and their exceptions end for them."""
    chosen = {"devices": devices or [], "selection": selection, "site": site}
    _change_lives(context, form, life="retired", reason=reason, wiped_by=wiped_by, on=on, **chosen)


@app.command("replace")
@reports_errors
def replace_device(
    context: typer.Context,
    device: DeviceArgument,
    by: Annotated[str, typer.Argument(help="The device in its place.")],
    reason: ReasonOption,
    wiped_by: WipedOption = "",
    on: OnOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record that another device replaces one. It is retired; its history links to the other."""
    _change_lives(
        context, form, life="replaced", devices=[device], replaced_by=by, reason=reason, wiped_by=wiped_by, on=on
    )


@app.command("wiped")
@reports_errors
def wiped(
    context: typer.Context,
    device: DeviceArgument,
    by: Annotated[str, typer.Option(help="Who erased its data.")],
    note: Annotated[str, typer.Option(help="How, in a sentence; kept in the ledger.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record who erased the data of a device that is retired or replaced."""
    with client(context) as service:
        known = {one.device: one.life for one in service.lives()}
    _change_lives(context, form, life=known.get(device, "retired"), devices=[device], reason=note, wiped_by=by)


@app.command("return")
@reports_errors
def bring_back(
    context: typer.Context,
    reason: ReasonOption,
    devices: Many = None,
    site: AtSiteOption = "",
    on: OnOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Bring devices back into service. Request the exceptions again that ended with them."""
    _change_lives(context, form, life="in-service", reason=reason, devices=devices or [], site=site, on=on)


def _change_lives(context: typer.Context, form: OutputFormat, **fields: object) -> None:
    with client(context) as service:
        request = LifeRequest.model_validate({key: value for key, value in fields.items() if value != ""})
        found = service.change_lives(request)
    rows = [[c.device, c.site, _words(c.was), _words(c.life), c.ends, c.leaves] for c in found]
    show(form, found, ["device", "site", "was", "is", "exceptions ended", "go on without it"], rows)
    if form is OutputFormat.TABLE:
        say("All that are not in service: [bold]doorstone device lives[/]")


def _words(life: str) -> str:
    return life.replace("-", " ")


@app.command("lives")
@reports_errors
def list_lives(
    context: typer.Context,
    device: Annotated[
        str, typer.Argument(help="Every change of this device's life; all that are away if left out.")
    ] = "",
    life: Annotated[str, typer.Option(help="set-aside, retired or replaced.")] = "",
    site: Annotated[str, typer.Option(help="Only this site.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List devices that are not in service: since when, why, what is left to do."""
    with client(context) as service:
        if device:
            recorded = service.device_lives(device)
            rows = [
                [one.on, _words(one.life), one.reason, one.look_on, one.replaced_by, one.wiped_by, one.by]
                for one in recorded
            ]
            show(form, recorded, ["since", "is", "reason", "look again", "replaced by", "wiped by", "by"], rows)
            return
        found = service.lives(life, site)
    rows = [
        [d.device, d.site, d.model, _words(d.life), d.on, d.reason, d.replaced_by, d.look_on, d.wiped_by,
         d.last_read_on]
        for d in found
    ]  # fmt: skip
    columns = ["device", "site", "model", "is", "since", "reason", "replaced by", "look again", "wiped by", "last read"]
    show(form, found, columns, rows)
    if form is OutputFormat.TABLE and (again := [d.device for d in found if d.read_since]):
        say(f"Read since: {', '.join(again)}. Back into service: [bold]doorstone device return[/] DEVICE --reason ...")


add_import(
    app, "lives", "Take devices out of service or back from a file, all or none: device, life, reason, on, look_on, ..."
)

# ---------------------------------------------------------------- disputes

dispute_app = typer.Typer(no_args_is_help=True)


@dispute_app.command("list")
@reports_errors
def list_disputes(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    device: Annotated[str, typer.Option(help="Only this device.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List disagreements that change an outcome, side by side."""
    with client(context) as service:
        found = service.disputes(the_platform(service, platform).id, release, device)
    rows = [
        [d.device, d.subject, s.source, s.value, s.taken_at.date(), s.outcome + (" (believed)" if s.believed else "")]
        for d in found
        for s in d.sides
    ]
    show(form, found, ["device", "about", "source", "says", "on", "which gives"], rows)
    if form is OutputFormat.TABLE:
        say("Settle one: [bold]doorstone dispute settle[/] DEVICE SUBJECT VALUE --reason ..." if found else "None.")


@dispute_app.command("settle")
@reports_errors
def settle(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    subject: Annotated[str, typer.Argument(help="A fact; or a requirement whose verdict speaks against the facts.")],
    value: Annotated[str, typer.Argument(help="What to believe: a value that a source reports; or met, unmet.")],
    reason: Annotated[str, typer.Option(help="Why, in a sentence.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Settle a dispute: name the value to believe until a newer reading."""
    kind = "fact" if "." in subject else "requirement"
    with client(context) as service:
        fields = {"device": device, "kind": kind, "subject": subject, "value": value, "reason": reason}
        found = service.settle_dispute(SettlementRequest.model_validate(fields))
    show(form, found, ["settlement", "device", "about", "believed"], [[found.id, device, found.subject, found.value]])
    say(f"Next: [bold]doorstone device show {device}[/]")


@dispute_app.command("settled")
@reports_errors
def list_settled(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List how disputes of a device were settled, and which of these still stand."""
    with client(context) as service:
        found = service.settlements(device)
    rows = [[s.id, s.subject, s.value, s.reason, s.by, s.at.date(), s.stands] for s in found]
    show(form, found, ["settlement", "about", "believed", "reason", "by", "on", "stands"], rows)


add_import(
    dispute_app, "settlements", "Settle disputes from a file, all or none: device, kind, subject, value, reason."
)
