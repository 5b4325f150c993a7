"""Devices: import readings, list, look at one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import typer

from doorstone.cli.connection import client, the_platform
from doorstone.cli.output import BAD_INPUT, LEGEND, MARKS, Form, FormOption, fail, out, say, show, speaks, strip
from doorstone.formats.wire import AssessmentShape, CourseShape

app = typer.Typer(no_args_is_help=True, help="Read devices and look at what was read.")
DeviceArgument = Annotated[str, typer.Argument(help="Device id.")]
ReleaseOption = Annotated[str, typer.Option("--release", "-r", help="Target release; the last published if left out.")]
PlatformOption = Annotated[str, typer.Option("--platform", "-p", help="Platform; the only one if left out.")]


def read_text(file: Path) -> str:
    try:
        return file.read_text("utf-8")
    except UnicodeDecodeError as error:
        fail(BAD_INPUT, f"{file} is not UTF-8 text: byte {error.start} ({error.reason})", "Save it as UTF-8")


def form_of(file: Path) -> Literal["ndjson", "csv"]:
    return "csv" if file.suffix.lower() == ".csv" else "ndjson"


@app.command("import")
@speaks
def import_readings(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="Readings: .csv, else NDJSON.")],
    form: FormOption = Form.TABLE,
) -> None:
    """Import readings, all or nothing: one bad line and nothing is changed."""
    text = read_text(file)
    with client(context) as service:
        report = service.import_readings(text, form_of(file))
    row = [report.id, report.readings, report.devices, report.added]
    show(form, report, ["import", "readings", "devices", "new devices"], [row])
    say("Next: [bold]doorstone device list[/]")


@app.command("list")
@speaks
def list_devices(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    state: Annotated[str, typer.Option(help="clear, fixable, needs-exception, floored or unsettled.")] = "",
    site: Annotated[str, typer.Option(help="Only this site.")] = "",
    requirement: Annotated[str, typer.Option(help="Only where this requirement is not met.")] = "",
    words: Annotated[str, typer.Option(help="Words in id, name, site, role or model.")] = "",
    form: FormOption = Form.TABLE,
) -> None:
    """List devices with their state against a release."""
    with client(context) as service:
        known = the_platform(service, platform)
        target = release or known.target
        where = {"release": target, "state": state, "site": site, "requirement": requirement, "words": words}
        found = list(service.devices(known.id, **where))
    rows = [[d.id, d.site, d.model, d.release, d.state, strip(d.marks), d.runway] for d in found]
    columns = ["device", "site", "model", "runs", f"for {target}", "findings", "runway"]
    show(form, found, columns, rows)
    if form is Form.TABLE:
        say(LEGEND)
        say(f"{len(found)} device{'' if len(found) == 1 else 's'}. One of them: [bold]doorstone device show[/] DEVICE")


@app.command("show")
@speaks
def show_device(
    context: typer.Context, device: DeviceArgument, release: ReleaseOption = "", form: FormOption = Form.TABLE
) -> None:
    """Show a device: every finding against a release, why, and the course."""
    with client(context) as service:
        detail = service.device(device, release)
        assessment = service.assessment(device, release)
    if form is Form.JSON:
        show(form, {"detail": detail.model_dump(mode="json"), "assessment": assessment.model_dump(mode="json")}, [], [])
        return
    d = detail.device
    title = f"{d.id}  {d.model}  {d.site}  on {d.release}, towards {assessment.release}: {assessment.state}"
    print_findings(form, assessment, title)
    if form is Form.TABLE and detail.course:
        out().print(f"\n{course_words(detail.course)}")


def course_words(course: CourseShape) -> str:
    """The course as a sentence."""
    until = "until" if course.way == "stay" else "by"
    by = f" {until} {course.by}" if course.by else ""
    return f"Course: [bold]{course.way}[/]{by}. {course.why}."


def print_findings(form: Form, assessment: AssessmentShape, title: str) -> None:
    """One row per requirement that is not met: the mark, what is required and measured, and what to do."""
    rows = []
    shown = [f for f in assessment.findings if form is not Form.TABLE or f.mark != "met"]
    for f in shown:
        wrong = [leaf for leaf in f.leaves if leaf.outcome != "met"] or f.leaves
        measured = [f"{leaf.fact}: {leaf.measured or 'unread'}" for leaf in wrong]
        required = [leaf.required for leaf in wrong]
        fix = "; ".join(f"{x.title} ({x.minutes} min, {x.cost})" for x in f.fixes)
        rows.append([f.requirement.id, f.mark, required, measured, fix or f.requirement.because])
    show(form, assessment, ["requirement", "finding", "required", "measured", "fix, or why"], rows, title)
    met = [f.requirement.id for f in assessment.findings if f.mark == "met"]
    if form is Form.TABLE and met:
        out().print(f"\n{MARKS['met']}: {', '.join(met)}")
