"""Readings: bring a file in and watch it, look at what was brought in, and who reports."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeElapsedColumn

from doorstone.api.readings import ChangesResponse, ImportRequest, ImportResponse
from doorstone.cli.connection import client
from doorstone.cli.output import BAD_INPUT, REFUSED, FormOption, OutputFormat, err, fail, out, reports_errors, say, show
from doorstone.cli.record_files import MapOption, form_of
from doorstone.client import Client

app = typer.Typer(no_args_is_help=True)
ReadingsFile = Annotated[
    Path, typer.Argument(exists=True, dir_okay=False, help="Readings: .csv, .tsv, .json, else NDJSON.")
]
ImportArgument = Annotated[str, typer.Argument(help="Import id, such as IM-0001.")]
_COLUMNS = ["import", "file", "state", "readings", "devices", "new", "rejected", "by", "on"]


@app.command("import")
@reports_errors
def import_readings(
    context: typer.Context,
    file: ReadingsFile,
    mapping: MapOption = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", "-n", help="Only say what would change.")] = False,
    skip: Annotated[
        bool, typer.Option("--skip-bad-lines", help="Leave bad lines out instead of refusing the file.")
    ] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Import readings: all or nothing, unless bad lines are to be skipped. Ctrl-C cancels while it checks."""
    words = mapping.read_text("utf-8") if mapping else ""
    request = ImportRequest(form=form_of(file), name=file.name, dry=dry_run, skip=skip, mapping=words)
    with client(context) as service:
        begun = service.begin_import(request)
        try:
            with file.open("rb") as stream:
                service.send_import_file(begun.id, stream)
            ended = _watch(service, begun.id)
        except KeyboardInterrupt:
            service.cancel_import(begun.id)
            fail(REFUSED, f"{begun.id} is cancelled; nothing was changed")
        problems = [] if not ended.rejected else list(service.import_problems(ended.id))
    if ended.state in ("refused", "failed"):
        errors = [(p.place if p.place.startswith("item") else f"line {p.line}, {p.place}", p.message, p.hint)
                    for p in problems[:50]]  # fmt: skip
        more = f"; all {len(problems)}: doorstone reading problems {ended.id}" if len(problems) > 50 else ""
        fail(BAD_INPUT, ended.why, f"Correct them and import again, or add --skip-bad-lines{more}", errors)
    show(form, ended, _COLUMNS, [_row(ended)])
    if form is OutputFormat.TABLE and ended.changes:
        _print_changes(ended.changes)
    if ended.rejected:
        say(f"Left out, line by line: [bold]doorstone reading problems {ended.id}[/]")
    say("Nothing was changed; it was a dry run." if ended.dry else "Next: [bold]doorstone device list[/]")


def _watch(service: Client, name: str) -> ImportResponse:
    """Watch an import to its end, with a bar on standard error for whoever sits there."""
    columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeElapsedColumn())
    with Progress(*columns, console=err(), transient=True) as progress:
        checking = progress.add_task("Checking", total=None)
        applying = progress.add_task("Taking over", total=None, visible=False)
        for found in service.watch_import(name):
            progress.update(checking, total=found.size or None, completed=found.position)
            progress.update(applying, total=found.checked, completed=found.applied, visible=found.state == "applying")
    return found


def _row(found: ImportResponse) -> list[object]:
    state = f"{found.state}, dry run" if found.dry else found.state
    counts = [found.readings, found.devices, found.added, found.rejected]
    return [found.id, found.name or found.form, state, *counts, found.by, found.at.date()]


def _print_changes(changes: ChangesResponse) -> None:
    rows = [[f"{m.platform} {m.release}", m.was or "new", m.becomes, m.count, m.devices[:5]] for m in changes.moves]
    if not rows:
        out().print("\nNo device would change state.")
    else:
        show(
            OutputFormat.TABLE,
            None,
            ["towards", "was", "becomes", "devices", "such as"],
            rows,
            "\nStates that would change",
        )
    if changes.disputes:
        newly = [[f"{d.platform} {d.release}", d.requirement, d.count, d.devices[:5]] for d in changes.disputes]
        head = ["towards", "requirement", "devices", "such as"]
        show(OutputFormat.TABLE, None, head, newly, "\nFindings that would become disputed")
    if changes.facts:
        facts = [[f.fact, f.devices, f"{f.device}: {f.was} → {f.becomes}"] for f in changes.facts]
        show(
            OutputFormat.TABLE,
            None,
            ["fact", "devices", "such as"],
            facts,
            "\nFacts whose value would change",
        )


@app.command("list")
@reports_errors
def list_imports(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List the last imports."""
    with client(context) as service:
        found = service.imports()
    show(form, found, _COLUMNS, [_row(one) for one in found])


@app.command("show")
@reports_errors
def show_import(context: typer.Context, name: ImportArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Show how an import stands."""
    with client(context) as service:
        found = service.get_import(name)
    show(form, found, _COLUMNS, [_row(found)])
    if form is OutputFormat.TABLE:
        if found.why:
            out().print(f"\n{found.why}.")
        if found.changes:
            _print_changes(found.changes)


@app.command("problems")
@reports_errors
def list_problems(context: typer.Context, name: ImportArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """List every line that an import rejected: where, what is wrong, the hint."""
    with client(context) as service:
        found = list(service.import_problems(name))
    show(form, found, ["line", "place", "what is wrong", "hint"], [[p.line, p.place, p.message, p.hint] for p in found])


@app.command("cancel")
@reports_errors
def cancel(context: typer.Context, name: ImportArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Cancel an import that has changed nothing yet."""
    with client(context) as service:
        found = service.cancel_import(name)
    show(form, found, _COLUMNS, [_row(found)])


@app.command("sources")
@reports_errors
def list_sources(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List who reports, how far each is trusted, and how long its readings count."""
    with client(context) as service:
        found = service.sources()
    rows = [[s.name, s.trust, _days(s.passing_days), _days(s.lasting_days)] for s in found]
    show(form, found, ["source", "trust", "passing facts count", "lasting facts count"], rows)


def _days(days: int | None) -> str:
    return "always" if days is None else f"{days} days"
