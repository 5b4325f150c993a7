"""Devices: list them, look at one."""

from __future__ import annotations

from typing import Annotated

import typer

from doorstone.api.devices import CourseResponse, DeviceChangeRequest, SettlementRequest
from doorstone.api.sorting import AssessmentResponse
from doorstone.cli.connection import client, the_platform
from doorstone.cli.filters import (
    ModelOption,
    PlatformOption,
    ReleaseOption,
    RequirementOption,
    SiteOption,
    StateOption,
    WordsOption,
)
from doorstone.cli.output import LEGEND, MARKS, FormOption, OutputFormat, out, reports_errors, say, show, strip

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
    title = f"{d.id}  {d.model}  {d.site}  on {d.release}, towards {assessment.release}: {assessment.state}"
    print_findings(form, assessment, title)
    if form is OutputFormat.TABLE and detail.course:
        out().print(f"\n{course_words(detail.course)}")
    if form is OutputFormat.TABLE and detail.verdicts:
        said = [[v.source, v.taken_at.date(), v.requirement, "pass" if v.passed else "fail"] for v in detail.verdicts]
        show(form, None, ["source", "on", "requirement", "says"], said, "\nVerdicts of the sources")


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
        fix = "; ".join(f"{x.title} ({x.minutes} min, {x.cost})" + (f", {x.told}" if x.told else "") for x in f.fixes)
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
    device: DeviceArgument,
    note: Annotated[str, typer.Option(help="Why; it stands in the ledger.")],
    site: Annotated[str | None, typer.Option(help="The site where it stands.")] = None,
    role: Annotated[str | None, typer.Option(help="What it is there for.")] = None,
    critical: Annotated[
        bool | None, typer.Option("--critical/--not-critical", help="Whether the organisation lives on it.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Change what rules rest on: site, role, criticality. Approvals that rest on it are looked at again."""
    asked = DeviceChangeRequest(site=site, role=role, critical=critical, note=note)
    with client(context) as service:
        found = service.change_device(device, asked).device
    columns = ["device", "site", "role", "critical"]
    show(form, found, columns, [[found.id, found.site, found.role, found.critical]])


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
    """Name the value to believe. It holds until a newer reading of it."""
    kind = "fact" if "." in subject else "requirement"
    with client(context) as service:
        asked = {"device": device, "kind": kind, "subject": subject, "value": value, "reason": reason}
        found = service.settle_dispute(SettlementRequest.model_validate(asked))
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
