"""Sheets: check, load, show."""

from __future__ import annotations

import json
import re
import sys
from importlib import resources
from pathlib import Path
from typing import Annotated, Literal

import typer
from rich.markup import escape

from doorstone.api.platforms import (
    ImpactResponse,
    TaskRequest,
    TaskResponse,
    VendorListRequest,
    explanation_shape,
)
from doorstone.cli.connection import client
from doorstone.cli.output import (
    BAD_INPUT,
    MISSING,
    REFUSED,
    USAGE,
    FormOption,
    OutputFormat,
    fail,
    out,
    reports_errors,
    say,
    show,
)
from doorstone.core.platforms.platform import Platform
from doorstone.core.platforms.summary import explain as explain_one
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.formats.sheet_schema import json_schema

app = typer.Typer(no_args_is_help=True)
SheetFile = Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A platform sheet, TOML.")]


BESIDE = (".csv", ".txt", ".json", ".j2", ".ini", ".conf", ".b64")


def read_with_lists(path: Path) -> tuple[str, dict[str, str]]:
    """The sheet's text and that of every file beside it that it names. No other file is read.

    Ends the command with a message and exit code if one of these files is not UTF-8 text.
    """
    text = _utf8(path)
    named = set(re.findall(r"""["']([^"'\n]+)["']""", text))
    beside = [path.parent / name for name in sorted(named) if Path(name).suffix in BESIDE and Path(name).name == name]
    return text, {file.name: _utf8(file) for file in beside if file.is_file() and file.stat().st_size < 5_000_000}


def _utf8(path: Path) -> str:
    try:
        return path.read_text("utf-8")
    except UnicodeDecodeError as error:
        fail(BAD_INPUT, f"{path} is not UTF-8 text: {error.reason}", "Save the file as UTF-8")


def platform_from(path: Path) -> Platform:
    """The platform that a sheet file describes; ends the command with a message and exit code if it is refused."""
    try:
        text, lists = read_with_lists(path)
        return read_sheet(text, lists, path.name)
    except SheetError as error:
        errors = [(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.hint) for p in error.problems]
        fail(BAD_INPUT, f"The sheet {path.name} is refused", "Correct each place and check it again", errors)


@app.command()
def check(file: SheetFile, form: FormOption = OutputFormat.TABLE) -> None:
    """Check a sheet, without a service."""
    platform = platform_from(file)
    counts = {
        "platform": platform.id,
        "releases": len(platform.releases),
        "requirements": len({r.id for r in platform.requirements}),
        "overrides": len(platform.overrides),
        "gates": len(platform.gates),
    }
    show(form, counts, list(counts), [list(counts.values())])
    say("The sheet is sound. Next: [bold]doorstone sheet load[/] FILE")


@app.command()
@reports_errors
def load(
    context: typer.Context,
    file: SheetFile,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask, whatever it changes.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Load a sheet as the platform's next revision, after showing what that changes."""
    text, lists = read_with_lists(file)
    with client(context) as service:
        impact = service.sheet_impact(text, lists, file.name)
        if impact.changed and impact.revision:
            if form is OutputFormat.TABLE:
                _print_impact(impact)
            if not yes:
                if not sys.stdin.isatty():
                    hint = f"Look at it with 'doorstone sheet impact {file}', then load with --yes"
                    fail(REFUSED, f"It changes revision {impact.revision}, and nobody is here to confirm", hint)
                typer.confirm("Load it?", abort=True, err=True)
        report = service.load_sheet(text, lists, file.name, impact.revision)
    fields = report.model_dump()
    show(form, report, list(fields), [list(fields.values())])
    if report.changed:
        say("Loaded. Next: [bold]doorstone reading import[/] FILE")
    else:
        say("This is the revision already loaded; nothing changed.")


@app.command()
@reports_errors
def impact(context: typer.Context, file: SheetFile, form: FormOption = OutputFormat.TABLE) -> None:
    """Show what loading a sheet would change: words, states, runways, costs, exceptions, kits. Nothing is loaded."""
    text, lists = read_with_lists(file)
    with client(context) as service:
        found = service.sheet_impact(text, lists, file.name)
    if form is OutputFormat.TABLE:
        _print_impact(found)
    else:
        rows = [[change.kind, change.subject, change.words] for change in found.changes]
        show(form, found, ["what", "which", "how it changes"], rows)


def _print_impact(found: ImpactResponse) -> None:
    if not found.changed:
        say(f"This is revision {found.revision} of {found.name}, already loaded.")
        return
    if not found.revision:
        say(f"This is the first sheet of {found.name}.")
        return
    rows = [[change.kind, change.subject, change.words] for change in found.changes]
    title = f"{found.name}, against revision {found.revision}"
    show(OutputFormat.TABLE, None, ["what", "which", "how it changes"], rows, title)
    moves = [[m.release, m.was, m.becomes, m.count, m.devices[:5]] for m in found.moves]
    if moves:
        show(
            OutputFormat.TABLE,
            None,
            ["release", "was", "becomes", "devices", "such as"],
            moves,
            "\nDevices that change state",
        )
    if found.runways:
        runways = [[r.line, r.was or "none", r.becomes or "none", r.count, r.devices[:5]] for r in found.runways]
        show(OutputFormat.TABLE, None, ["line", "was", "becomes", "devices", "such as"], runways, "\nRunways that move")
    if found.costs:
        costs = [[c.way, c.was, c.becomes, c.count, c.devices[:5]] for c in found.costs]
        show(
            OutputFormat.TABLE,
            None,
            ["way", "cost", "becomes", "devices", "such as"],
            costs,
            "\nWays that cost otherwise",
        )
    touched = [*found.relying, *found.exceptions, *found.kits]
    if touched:
        hit = [[t.id, t.words, t.devices[:8]] for t in touched]
        show(
            OutputFormat.TABLE,
            None,
            ["touched", "how", "devices"],
            hit,
            "\nOverrides that devices rely on, exceptions, kits",
        )
    if not (moves or touched or found.runways or found.costs):
        out().print("\nNo device changes state, no runway and no cost moves; no exception and no kit is touched.")


@app.command()
@reports_errors
def revisions(
    context: typer.Context,
    platform: Annotated[str, typer.Argument(help="Platform id.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List the revisions of a sheet and what each changed."""
    with client(context) as service:
        found = service.revisions(platform)
    rows = [
        [r.revision, f"{r.loaded_by} {r.loaded_at.date()}", [f"{c.subject}: {c.words}" for c in r.changes]]
        for r in found
    ]
    typed = [[r.revision, r.loaded_by, r.loaded_at, c.kind, c.subject, c.words] for r in found for c in r.changes]
    columns = ["revision", "loaded by", "loaded at", "kind", "of", "what changed"]
    show(form, found, ["revision", "loaded", "what changed"], rows, typed=(columns, typed))


@app.command()
def explain(
    requirement: Annotated[str, typer.Argument(help="Requirement id.")],
    sheet: Annotated[
        Path | None, typer.Option("--sheet", "-s", exists=True, dir_okay=False, help="The sheet; the only .toml here.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Explain one requirement of a sheet in words, release by release, without a service."""
    platform = platform_from(sheet or _only_sheet())
    known = list(dict.fromkeys(r.id for r in platform.requirements))
    if requirement not in known:
        fail(MISSING, f"{platform.name} asks for no {requirement!r}", f"It asks for {', '.join(known)}")
    found = explanation_shape(explain_one(platform, requirement))
    rows = [
        [r.release, r.asks, r.sort, [f"{kind} {word}" for kind, word in r.effects.items()], r.overrides]
        for r in found.releases
    ]
    columns = ["release", "asks", "sort", "updates without it", "overrides"]
    if form is not OutputFormat.TABLE:
        show(form, found, columns, rows)
        return
    out().print(f"[bold]{escape(found.title)}[/] ({found.requirement})\n{escape(found.because)}")
    out().print(f"Enforced by {', '.join(found.enforced_at)}. {found.source}\n")
    show(form, None, columns, rows)
    for fix in found.fixes:
        out().print(f"\nFix, when {escape(fix.when)}: {escape(fix.title)} ({fix.minutes} min, {fix.cost})")
    for o in found.overrides:
        until = f" until {o.until}" if o.until else " on"
        needs = f"; needs {escape(o.needs)}" if o.needs != "always" else ""
        out().print(
            f"\nOverride {o.id}: {escape(o.title)}, {o.origin}, from {o.since}{until}, {', '.join(o.routes)}{needs}"
        )


@app.command()
def preview(
    file: SheetFile,
    override: Annotated[str, typer.Argument(help="Override id, or the id of a settings set.")],
    release: Annotated[str, typer.Option("--release", "-r", help="The last on which it works if left out.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Print what an override or a settings set would put into a kit, without a service."""
    from doorstone.core.kits.files import preview_files
    from doorstone.core.kits.settings_store import StoreError
    from doorstone.formats.template_sandbox import TemplateError, fill_template

    platform = platform_from(file)
    chosen = next((o for o in platform.overrides if o.id == override), None)
    works = [r.id for r in platform.releases if chosen is None or platform.in_span(r.id, chosen.since, chosen.until)]
    release = release or works[-1]
    if not platform.has(release):
        fail(
            MISSING, f"{platform.name} has no release {release!r}", f"Use {', '.join(r.id for r in platform.releases)}"
        )
    if release not in works:
        ended = f"ends at {chosen.until}" if chosen and chosen.until else "begins later"
        fail(REFUSED, f"{override} does not work on {release}: it {ended}", f"It works on {', '.join(works)}")
    try:
        files = preview_files(platform, override, release, fill_template)
    except KeyError:
        known = [o.id for o in platform.overrides] + [s.id for s in platform.sets]
        fail(MISSING, f"{platform.name} has no override {override!r}", f"It has {', '.join(known)}")
    except (StoreError, TemplateError) as error:
        fail(BAD_INPUT, str(error), "Correct the sheet, or the template beside it")
    rows = [[path, text] for path, text in files.items()]
    if form is not OutputFormat.TABLE:
        show(form, files, ["file", "text"], rows)
        return
    for path, text in files.items():
        out().print(f"[bold]{path}[/]")
        out().print(text, markup=False, soft_wrap=True)


def _only_sheet() -> Path:
    found = sorted(Path.cwd().glob("*.toml"))
    if len(found) != 1:
        names = ", ".join(path.name for path in found) or "none"
        fail(USAGE, f"Which sheet? Here is {names}", "Name one with --sheet")
    return found[0]


@app.command("new")
def new_sheet(
    file: Annotated[Path, typer.Argument(dir_okay=False, help="Where to write it; .toml is added if it is missing.")],
    platform: Annotated[
        str, typer.Option("--id", help="Platform id, small letters, digits and dashes.")
    ] = "my-platform",
    name: Annotated[str, typer.Option(help="Platform name.")] = "My Platform",
) -> None:
    """Write a starter sheet with a comment on every part."""
    if file.suffix != ".toml":
        file = file.with_name(f"{file.name}.toml")
    if file.exists():
        fail(REFUSED, f"{file} is there already", "Choose another name; nothing is written over")
    if not re.fullmatch(r"[a-z0-9][a-z0-9.-]{0,63}", platform) or not name.isprintable() or '"' in name or "\\" in name:
        fail(
            USAGE, "The id or the name cannot stand in a sheet", "Small letters, digits, dashes; no quotes in the name"
        )
    text = (resources.files("doorstone.formats.templates") / "sheet.toml").read_text("utf-8")
    text = text.replace("my-platform", platform).replace("My Platform", name)
    file.write_text(text, encoding="utf-8")
    say(f"Written. Next: change it, then [bold]doorstone sheet check {file}[/]")


@app.command("list")
@reports_errors
def list_sheets(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List the platforms whose sheets are loaded."""
    with client(context) as service:
        found = service.platforms()
    rows = [[p.id, p.name, p.devices, p.sheet_revision, [r.id for r in p.releases], p.target] for p in found]
    show(form, found, ["platform", "name", "devices", "revision", "releases", "target"], rows)


@app.command("show")
@reports_errors
def show_sheet(
    context: typer.Context,
    platform: Annotated[str, typer.Argument(help="Platform id.")],
    into: Annotated[
        Path | None,
        typer.Option(help="Write it to this folder, with every file that stands beside it.", file_okay=False),
    ] = None,
) -> None:
    """Print a sheet as it was loaded; or write it, with the lists and files beside it, to a folder."""
    with client(context) as service:
        if into is None:
            typer.echo(service.sheet(platform), nl=False)
            return
        files = service.sheet_files(platform)
    if taken := [name for name in sorted(files) if (into / name).exists()]:
        fail(REFUSED, f"{into / taken[0]} is there already", "Name a new folder; nothing is written over")
    into.mkdir(parents=True, exist_ok=True)
    for name, text in files.items():
        (into / name).write_bytes(text)
    say(f"Written to {into}: {', '.join(sorted(files))}")
    say(f"Load it elsewhere: [bold]doorstone sheet load {into / (platform + '.toml')}[/]")


@app.command()
def schema() -> None:
    """Print the JSON Schema of a sheet."""
    typer.echo(json.dumps(json_schema(), indent=2))


@app.command("compare")
@reports_errors
def compare(
    context: typer.Context,
    platform: Annotated[str, typer.Argument(help="Platform id.")],
    one: Annotated[int, typer.Argument(help="A revision.")],
    other: Annotated[int, typer.Argument(help="The revision that is compared with it.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Compare any two revisions of a sheet, in every attribute."""
    with client(context) as service:
        found = service.compare_revisions(platform, one, other)
    show(form, found, ["what", "which", "how it differs"], [[c.kind, c.subject, c.words] for c in found])


# -------------------------------------------------------------- vendor's lists

PlatformArgument = Annotated[str, typer.Argument(help="Platform id.")]
ListArgument = Annotated[str, typer.Argument(metavar="LIST", help="The list's file name beside the sheet.")]
RawFile = Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The vendor's list: .csv, .tsv, or lines.")]
ColumnOption = Annotated[str, typer.Option(help="Of a table with several columns: the one with the names.")]
PrefixOption = Annotated[list[str] | None, typer.Option("--prefix", help="Prefix of names to ignore; repeat for more.")]
SuffixOption = Annotated[list[str] | None, typer.Option("--suffix", help="Suffix of names to ignore; repeat for more.")]
SameOption = Annotated[list[str] | None, typer.Option("--same", help="RAW=NAME: it is that one; repeat for more.")]
OtherOption = Annotated[list[str] | None, typer.Option("--other", help="RAW: a name of its own; repeat for more.")]


def _raw(
    file: Path, column: str, prefix: list[str] | None, suffix: list[str] | None, same: list[str] | None,
    other: list[str] | None,
) -> VendorListRequest:  # fmt: skip
    pairs = {}
    for word in same or ():
        raw, equals, name = word.partition("=")
        if not equals:
            fail(USAGE, f"--same {word!r} names no other", "Write RAW=NAME")
        pairs[raw.strip()] = name.strip()
    ending = {".csv": "csv", ".tsv": "tsv", ".tab": "tsv"}.get(file.suffix.lower(), "lines")
    try:
        text = file.read_text("utf-8-sig")
    except UnicodeDecodeError as error:
        fail(BAD_INPUT, f"{file} is not UTF-8 text: {error.reason}", "Save it as UTF-8")
    return VendorListRequest.model_validate({
        "text": text, "form": ending, "column": column, "same": pairs, "other": other or [],
        "rules": {"prefixes": prefix or [], "suffixes": suffix or []},
    })  # fmt: skip


@app.command("list-match")
@reports_errors
def list_match(
    context: typer.Context,
    platform: PlatformArgument,
    name: ListArgument,
    file: RawFile,
    column: ColumnOption = "",
    prefix: PrefixOption = None,
    suffix: SuffixOption = None,
    same: SameOption = None,
    other: OtherOption = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Match a vendor's list as it comes with the one beside the sheet, and show what loading it would change."""
    with client(context) as service:
        found = service.match_list(platform, name, _raw(file, column, prefix, suffix, same, other))
    rows = [[n.raw, n.match.replace("-", " "), n.name if n.match != "near" else "", n.near] for n in found.names]
    show(form, found, ["the vendor writes", "match", "stands for", "near to"], rows)
    if form is not OutputFormat.TABLE:
        return
    gone = {one.was: one.now for one in found.renamed}
    changes = [["renamed", f"{was} → {now}"] for was, now in gone.items()]
    changes += [["dropped", was] for was in found.dropped if was not in gone]
    changes += [["added", now] for now in found.added if now not in gone.values()]
    show(form, None, ["what", "name"], changes, f"\n{name}: {found.same} the same")
    out().print()
    _print_impact(found.impact)
    if found.undecided:
        say(f"{found.undecided} only near: say of each [bold]--same RAW=NAME[/] or [bold]--other RAW[/]")
    else:
        say(f"Next: [bold]doorstone sheet list-load {platform} {name} {file}[/] with the same options")


@app.command("list-load")
@reports_errors
def list_load(
    context: typer.Context,
    platform: PlatformArgument,
    name: ListArgument,
    file: RawFile,
    column: ColumnOption = "",
    prefix: PrefixOption = None,
    suffix: SuffixOption = None,
    same: SameOption = None,
    other: OtherOption = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Load a vendor's list as the sheet's next revision; matches of names are kept for the next list."""
    with client(context) as service:
        report = service.load_list(platform, name, _raw(file, column, prefix, suffix, same, other))
    fields = report.model_dump()
    show(form, report, list(fields), [list(fields.values())])
    say("Next: [bold]doorstone task list[/]" if report.changed else "The list says the same; nothing changed.")


# ------------------------------------------------------------------------ tasks

task_app = typer.Typer(no_args_is_help=True)


@task_app.command("list")
@reports_errors
def list_tasks(
    context: typer.Context,
    state: Annotated[str, typer.Option(help="open, done or dropped; all if left out.")] = "",
    platform: Annotated[str, typer.Option("--platform", "-p", help="Only of this platform's sheet.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List what changed sheets leave to do, with devices and owner."""
    with client(context) as service:
        found = service.tasks(state, platform)
    _print_tasks(form, found)


def _print_tasks(form: OutputFormat, found: list[TaskResponse]) -> None:
    rows = [
        [t.id, f"{t.platform} {t.revision}", t.words, t.devices if len(t.devices) < 4 else f"{len(t.devices)} devices",
         t.owner, t.state]
        for t in found
    ]  # fmt: skip
    show(form, found, ["task", "sheet", "to do", "devices", "owner", "state"], rows)


@task_app.command("settle")
@reports_errors
def settle_task(
    context: typer.Context,
    name: Annotated[str, typer.Argument(metavar="TASK", help="Its id, such as TS-0001.")],
    dropped: Annotated[bool, typer.Option("--drop", help="Nothing is to be done; takes a note.")] = False,
    again: Annotated[bool, typer.Option("--open", help="Open it again.")] = False,
    note: Annotated[str, typer.Option(help="What was done, or why nothing is.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Settle a task: done, dropped with a reason, or open again."""
    state: Literal["open", "done", "dropped"] = "open" if again else "dropped" if dropped else "done"
    with client(context) as service:
        _print_tasks(form, [service.change_task(name, TaskRequest(state=state, note=note))])


@task_app.command("give")
@reports_errors
def give_task(
    context: typer.Context,
    name: Annotated[str, typer.Argument(metavar="TASK", help="Its id, such as TS-0001.")],
    owner: Annotated[str, typer.Argument(help="Who answers for it from now on.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Assign a task to another person."""
    with client(context) as service:
        _print_tasks(form, [service.change_task(name, TaskRequest(owner=owner))])
