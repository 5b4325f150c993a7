"""Sheets: check, load, show."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from doorstone.cli.connection import client
from doorstone.cli.output import BAD_INPUT, Form, FormOption, fail, say, show, speaks
from doorstone.core.platforms import Platform
from doorstone.formats.sheet import SheetError, read_sheet
from doorstone.formats.sheet_schema import json_schema

app = typer.Typer(no_args_is_help=True, help="Describe a platform: its releases, requirements, fixes and overrides.")
SheetFile = Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A platform sheet, TOML.")]


def read_with_lists(path: Path) -> tuple[str, dict[str, str]]:
    """The sheet's text and that of every .csv and .txt file beside it."""
    lists = {
        file.name: file.read_text("utf-8")
        for file in sorted(path.parent.iterdir())
        if file.suffix in (".csv", ".txt") and file.stat().st_size < 5_000_000
    }
    text = path.read_text("utf-8")
    return text, {name: body for name, body in lists.items() if name in text}


def platform_from(path: Path) -> Platform:
    """The platform that a sheet file describes; leaves with words and a code if it is refused."""
    try:
        text, lists = read_with_lists(path)
        return read_sheet(text, lists, path.name)
    except UnicodeDecodeError as error:
        fail(BAD_INPUT, f"{path} is not UTF-8 text: {error.reason}", "Save it as UTF-8")
    except SheetError as error:
        troubles = [(f"line {p.line}, {p.place}" if p.line else p.place, p.message, p.mend) for p in error.problems]
        fail(BAD_INPUT, f"The sheet {path.name} is refused", "Mend each place and check it again", troubles)


@app.command()
def check(file: SheetFile, form: FormOption = Form.TABLE) -> None:
    """Check a sheet, without a service."""
    platform = platform_from(file)
    counts = {
        "platform": platform.id,
        "releases": len(platform.releases),
        "requirements": len(platform.requirements),
        "overrides": len(platform.overrides),
        "gates": len(platform.gates),
    }
    show(form, counts, list(counts), [list(counts.values())])
    say("The sheet is sound. Next: [bold]doorstone sheet load[/] FILE")


@app.command()
@speaks
def load(context: typer.Context, file: SheetFile, form: FormOption = Form.TABLE) -> None:
    """Load a sheet as the platform's next revision."""
    text, lists = read_with_lists(file)
    with client(context) as service:
        report = service.load_sheet(text, lists, file.name)
    fields = report.model_dump()
    show(form, report, list(fields), [list(fields.values())])
    if report.changed:
        say("Loaded. Next: [bold]doorstone device import[/] FILE")
    else:
        say("This is the revision already loaded; nothing changed.")


@app.command("list")
@speaks
def list_sheets(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """List the platforms whose sheets are loaded."""
    with client(context) as service:
        found = service.platforms()
    rows = [[p.id, p.name, p.sheet_revision, [r.id for r in p.releases], p.target] for p in found]
    show(form, found, ["platform", "name", "revision", "releases", "target"], rows)


@app.command("show")
@speaks
def show_sheet(context: typer.Context, platform: Annotated[str, typer.Argument(help="Platform id.")]) -> None:
    """Print a sheet as it was loaded."""
    with client(context) as service:
        typer.echo(service.sheet(platform), nl=False)


@app.command()
def schema() -> None:
    """Print the JSON Schema of a sheet."""
    typer.echo(json.dumps(json_schema(), indent=2))
