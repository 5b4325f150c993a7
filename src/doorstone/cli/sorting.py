"""Sorting: a whole file without a service, the sorting table, and decisions."""

from __future__ import annotations

from datetime import UTC, date, datetime
from pathlib import Path
from typing import Annotated, Any

import typer
from msgspec import Struct

from doorstone.api.readings import NewRequirementRequest
from doorstone.api.sorting import AssessmentResponse, DecisionRequest
from doorstone.cli.connection import client, the_platform
from doorstone.cli.filters import PlatformOption, ReleaseOption
from doorstone.cli.output import BAD_INPUT, MISSING, FormOption, OutputFormat, fail, reports_errors, say, show
from doorstone.cli.platforms import platform_from
from doorstone.cli.readings import ReadingsFile
from doorstone.cli.record_files import MapOption, form_of
from doorstone.core.facts import Reading
from doorstone.core.platforms.platform import Platform, Sort, target_release
from doorstone.core.readings.settle import settle
from doorstone.core.sorting.assessment import Assessment, Scope, assess
from doorstone.formats.mapping import ColumnMapping, MappingError, read_mapping
from doorstone.formats.reading_records import ImportProblem, ReadingRecord
from doorstone.formats.readings import read_stream
from doorstone.work.context.context import SOURCES

app = typer.Typer(no_args_is_help=True)


class _Sorted(Struct, frozen=True):
    device: str
    runs: str
    assessment: Assessment


def sort(
    file: ReadingsFile,
    sheet: Annotated[Path, typer.Option("--sheet", "-s", exists=True, dir_okay=False, help="A platform sheet.")],
    release: ReleaseOption = "",
    mapping: MapOption = None,
    as_of: Annotated[
        datetime | None, typer.Option("--as-of", formats=["%Y-%m-%d"], help="The day to sort for; today if left out.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Sort a file of readings against a sheet, with no service at all."""
    platform = platform_from(sheet)
    words = read_mapping_file(mapping, platform) if mapping else None
    with file.open("rb") as stream:
        parsed = list(read_stream(stream, form_of(file), platform.specs, words))
    problems = [one for one in parsed if isinstance(one, ImportProblem)]
    if problems:
        errors = [(p.where, p.message, p.hint) for p in problems[:50]]
        fail(
            BAD_INPUT,
            f"{file.name}: {len(problems)} line{'' if len(problems) == 1 else 's'} cannot be read",
            "Correct them and sort again",
            errors,
        )
    day = as_of.date() if as_of else date.today()
    target = release or target_release(platform, day)
    if not platform.has(target):
        known = ", ".join(r.id for r in platform.releases)
        fail(MISSING, f"{platform.name} has no release {target!r}", f"Use one of {known}")
    readings: dict[str, list[Reading]] = {}
    for record in (one for one in parsed if isinstance(one, ReadingRecord)):
        readings.setdefault(record.device, []).append(record.reading)
    found = [_sort_one(platform, target, device, held, day) for device, held in sorted(readings.items())]
    rows = [
        [
            s.device,
            s.runs,
            s.assessment.state.value,
            *(_names(s.assessment, m) for m in ("fixable", "installer-check", "floor")),
        ]
        for s in found
    ]
    show(form, [_data(s) for s in found], ["device", "runs", f"for {target}", "fix", "except", "floor"], rows)
    if form is OutputFormat.TABLE:
        say(f"{len(found)} device{'' if len(found) == 1 else 's'} sorted for {platform.name} {target} as of {day}.")


def read_mapping_file(file: Path, platform: Platform) -> ColumnMapping:
    """A mapping for the platform's facts; ends the command with a message and exit code if it cannot be used."""
    try:
        return read_mapping(file.read_text("utf-8"), platform.specs, datetime.now(UTC).replace(tzinfo=None))
    except MappingError as error:
        errors = [(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.hint) for p in error.problems]
        fail(BAD_INPUT, f"The mapping {file.name} cannot be used", "Correct each place", errors)


def _sort_one(platform: Platform, release: str, device: str, readings: list[Reading], day: date) -> _Sorted:
    view = settle(readings, SOURCES, platform.specs, day)
    return _Sorted(device, view.text("os.release", "unread"), assess(platform, release, view, (), device))


def _names(assessment: Assessment, mark: str) -> list[str]:
    return [f.requirement.id for f in assessment.findings if f.mark == mark]


def _data(found: _Sorted) -> dict[str, Any]:
    shape = AssessmentResponse.model_validate(found.assessment)
    return {"device": found.device, "runs": found.runs, **shape.model_dump(mode="json")}


@app.command("show")
@reports_errors
def show_table(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show what a release asks, how each requirement is sorted, and the evidence."""
    with client(context) as service:
        known = the_platform(service, platform)
        target = release or known.target
        found = service.sorting(known.id, target)
    rows = [
        [
            r.requirement,
            r.sort,
            r.sorted_by,
            sum(n for m, n in r.marks.items() if m != "met"),
            r.ran,
            r.refused,
            r.against,
        ]
        for r in found
    ]
    columns = ["requirement", "sort", "by", "not met", "ran without", "refused", "against it"]
    show(form, found, columns, rows, f"{known.name} {target}")


@app.command()
@reports_errors
def decide(
    context: typer.Context,
    requirement: Annotated[str, typer.Argument(help="Requirement id.")],
    sort: Annotated[Sort, typer.Argument(help="What it is.")],
    note: Annotated[str, typer.Option(help="What the evidence shows, in a sentence.")],
    evidence: Annotated[str, typer.Option(help="vendor-statement, trial, attempt or report.")] = "trial",
    link: Annotated[str, typer.Option(help="Where the evidence is to be seen, https://.")] = "",
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    device: Annotated[str, typer.Option(help="For this device only.")] = "",
    model: Annotated[str, typer.Option(help="For this machine model only.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Sort a requirement: a floor, or only an installer check."""
    scope = Scope.DEVICE if device else Scope.MODEL if model else Scope.RELEASE
    with client(context) as service:
        known = the_platform(service, platform)
        request = DecisionRequest.model_validate(
            {
                "platform": known.id,
                "requirement": requirement,
                "release": release or known.target,
                "scope": scope,
                "target": device or model,
                "sort": sort,
                "evidence": evidence,
                "note": note,
                "link": link,
            }
        )
        found = service.decide_sort(request)
    row = [found.id, found.requirement, found.release, f"{found.scope} {found.target}".strip(), found.sort]
    show(form, found, ["decision", "requirement", "release", "for", "sort"], [row])


@app.command("decisions")
@reports_errors
def list_decisions(
    context: typer.Context,
    platform: PlatformOption = "",
    requirement: Annotated[str, typer.Option(help="Only on this requirement.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List every decision, those withdrawn included."""
    with client(context) as service:
        found = service.decisions(the_platform(service, platform).id, requirement)
    rows = [
        [
            d.id,
            [d.requirement, f"{d.release}, {d.scope} {d.target}".strip()],
            d.sort,
            f"{d.evidence}: {d.note} {d.link}".strip(),
            [f"{d.by} {d.at.date()}", *([f"withdrawn: {d.withdrawn_note}"] if d.withdrawn_at else [])],
        ]
        for d in found
    ]
    columns = ["decision", "on", "sort", "evidence", "by"]
    show(form, found, columns, rows)


@app.command("withdraw")
@reports_errors
def withdraw(
    context: typer.Context,
    decision: Annotated[str, typer.Argument(help="Decision id, such as SD-0001.")],
    note: Annotated[str, typer.Option(help="Why it no longer holds.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Withdraw a decision: the next one in the order of precedence counts again."""
    with client(context) as service:
        found = service.withdraw_decision(decision, note)
    show(form, found, ["decision", "withdrawn by"], [[found.id, found.withdrawn_by]])


@app.command("texts")
@reports_errors
def list_texts(
    context: typer.Context,
    platform: PlatformOption = "",
    waiting: Annotated[bool, typer.Option("--waiting", help="Only texts that match no requirement.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List failures that assessors report in words, each with its requirement."""
    with client(context) as service:
        found = service.failure_messages(the_platform(service, platform).id, waiting)
    rows = [[t.text, t.devices, t.sources, t.example, t.requirement or "nobody has said"] for t in found]
    show(form, found, ["text", "devices", "from", "such as", "requirement"], rows)
    if form is OutputFormat.TABLE and any(not t.requirement for t in found):
        say("Next: [bold]doorstone sorting match[/] TEXT REQUIREMENT, or [bold]new-requirement[/] TEXT ID --title ...")


@app.command("match")
@reports_errors
def match_text(
    context: typer.Context,
    text: Annotated[str, typer.Argument(help="The text, as it is listed.")],
    requirement: Annotated[str, typer.Argument(help="Its requirement.")],
    platform: PlatformOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Match a failure message to a requirement: from then on it is its source's verdict."""
    with client(context) as service:
        found = service.match_failure_message(the_platform(service, platform).id, text, requirement)
    show(form, found, ["text", "requirement", "devices"], [[found.text, found.requirement, found.devices]])


@app.command("new-requirement")
@reports_errors
def new_requirement(
    context: typer.Context,
    text: Annotated[str, typer.Argument(help="The text, as it is listed.")],
    name: Annotated[str, typer.Argument(metavar="ID", help="An id for the requirement, such as camera-lock.")],
    title: Annotated[str, typer.Option(help="What is asked, in a few words.")],
    since: Annotated[str, typer.Option(help="The first release that asks for it.")],
    platform: PlatformOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Make a failure message into a new requirement, unsorted until somebody decides."""
    with client(context) as service:
        request = {"platform": the_platform(service, platform).id, "text": text, "id": name, "title": title}
        found = service.new_requirement(NewRequirementRequest.model_validate({**request, "since": since}))
    show(form, found, ["text", "requirement", "devices"], [[found.text, found.requirement, found.devices]])
    say(f"Next: [bold]doorstone sorting decide {name}[/] floor|installer-check --note ...")
