"""Sorting: a whole file without a service, the sorting table, and decisions."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from doorstone.cli.connection import client, the_platform
from doorstone.cli.devices import PlatformOption, ReleaseOption, form_of, read_text
from doorstone.cli.output import BAD_INPUT, MISSING, Form, FormOption, fail, say, show, speaks
from doorstone.cli.sheets import platform_from
from doorstone.core.facts import Reading, settle
from doorstone.core.platforms import Platform, Sort
from doorstone.core.sorting import Assessment, Scope, assess
from doorstone.formats.readings import read_csv, read_ndjson
from doorstone.formats.wire import AssessmentShape, DecisionAsked
from doorstone.work.desk import SOURCES
from doorstone.work.devices import target_release

app = typer.Typer(no_args_is_help=True, help="See how requirements are sorted, and decide.")


@dataclass(frozen=True, slots=True)
class _Sorted:
    device: str
    runs: str
    assessment: Assessment


def sort(
    file: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="Readings: .csv, else NDJSON.")],
    sheet: Annotated[Path, typer.Option("--sheet", "-s", exists=True, dir_okay=False, help="A platform sheet.")],
    release: ReleaseOption = "",
    as_of: Annotated[
        datetime | None, typer.Option("--as-of", formats=["%Y-%m-%d"], help="The day to sort for; today if left out.")
    ] = None,
    form: FormOption = Form.TABLE,
) -> None:
    """Sort a file of readings against a sheet, with no service at all."""
    platform = platform_from(sheet)
    parsed = (read_csv if form_of(file) == "csv" else read_ndjson)(read_text(file), platform.specs)
    if parsed.problems:
        troubles = [(f"line {p.line}, {p.place}", p.message, p.mend) for p in parsed.problems[:50]]
        fail(
            BAD_INPUT,
            f"{file.name}: {len(parsed.problems)} line(s) cannot be read",
            "Mend them and sort again",
            troubles,
        )
    day = as_of.date() if as_of else date.today()
    target = release or target_release(platform, day)
    if not platform.has(target):
        known = ", ".join(r.id for r in platform.releases)
        fail(MISSING, f"{platform.name} has no release {target!r}", f"Use one of {known}")
    readings: dict[str, list[Reading]] = {}
    for record in parsed.records:
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
    if form is Form.TABLE:
        say(f"{len(found)} device{'' if len(found) == 1 else 's'} sorted for {platform.name} {target} as of {day}.")


def _sort_one(platform: Platform, release: str, device: str, readings: list[Reading], day: date) -> _Sorted:
    view = settle(readings, SOURCES, platform.specs, day)
    return _Sorted(device, view.text("os.release", "unread"), assess(platform, release, view, (), device))


def _names(assessment: Assessment, mark: str) -> list[str]:
    return [f.requirement.id for f in assessment.findings if f.mark == mark]


def _data(found: _Sorted) -> dict[str, Any]:
    shape = AssessmentShape.model_validate(found.assessment)
    return {"device": found.device, "runs": found.runs, **shape.model_dump(mode="json")}


@app.command("show")
@speaks
def show_table(
    context: typer.Context, platform: PlatformOption = "", release: ReleaseOption = "", form: FormOption = Form.TABLE
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
@speaks
def decide(
    context: typer.Context,
    requirement: Annotated[str, typer.Argument(help="Requirement id.")],
    sort: Annotated[Sort, typer.Argument(help="What it is.")],
    note: Annotated[str, typer.Option(help="What the evidence shows, in a sentence.")],
    evidence: Annotated[str, typer.Option(help="vendor-statement, trial, attempt or report.")] = "trial",
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    device: Annotated[str, typer.Option(help="For this device only.")] = "",
    model: Annotated[str, typer.Option(help="For this machine model only.")] = "",
    form: FormOption = Form.TABLE,
) -> None:
    """Sort a requirement: a floor, or only an installer check."""
    scope = Scope.DEVICE if device else Scope.MODEL if model else Scope.RELEASE
    with client(context) as service:
        known = the_platform(service, platform)
        asked = DecisionAsked.model_validate(
            {
                "platform": known.id,
                "requirement": requirement,
                "release": release or known.target,
                "scope": scope,
                "target": device or model,
                "sort": sort,
                "evidence": evidence,
                "note": note,
            }
        )
        found = service.decide_sort(asked)
    row = [found.id, found.requirement, found.release, f"{found.scope} {found.target}".strip(), found.sort]
    show(form, found, ["decision", "requirement", "release", "for", "sort"], [row])
