"""Commands that record the rows of a file: attempts, observations, fixes, lives, settlements, follow-ups."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Annotated

import typer

from doorstone.api.readings import FormName, RecordKind
from doorstone.cli.connection import client
from doorstone.cli.dry_run import DRY_RUN
from doorstone.cli.output import BAD_INPUT, FormOption, OutputFormat, fail, reports_errors, say, show

RecordFile = Annotated[
    Path, typer.Argument(exists=True, dir_okay=False, help="A table that ends in .csv or .tsv, JSON, or NDJSON.")
]
MapOption = Annotated[
    Path | None, typer.Option("--map", "-m", exists=True, dir_okay=False, help="How foreign columns map, TOML.")
]
_FORMS: dict[str, FormName] = {".csv": "csv", ".tsv": "tsv", ".tab": "tsv", ".json": "json"}


def form_of(file: Path) -> FormName:
    """The form that a file's name says; NDJSON if it says nothing."""
    return _FORMS.get(file.suffix.lower(), "ndjson")


def add_import(app: typer.Typer, kind: RecordKind, words: str) -> None:
    """Give a group its command `import`."""

    @reports_errors
    def import_file(
        context: typer.Context, file: RecordFile, mapping: MapOption = None, form: FormOption = OutputFormat.TABLE
    ) -> None:
        record_file(context, kind, file, mapping, form)

    import_file.__doc__ = words
    app.command("import", help=words)(import_file)


def record_file(context: typer.Context, kind: RecordKind, file: Path, mapping: Path | None, form: OutputFormat) -> None:
    by = mapping.read_text("utf-8") if mapping else ""
    with client(context) as service:
        found = service.record_file(kind, _text(file, by), form_of(file), by)
    rows = [[one.line, one.device, one.words, one.id] for one in found.items]
    show(form, found, ["row", "device", "recorded", "as"], rows)
    known = f", {found.known} known already and left alone" if found.known else ""
    if form is OutputFormat.TABLE and not DRY_RUN.get():
        say(f"{found.recorded} recorded{known}.")


def _text(file: Path, mapping: str) -> str:
    """The file's text, in the encoding that the mapping names; ends the command with a message if it is not text."""
    raw = file.read_bytes()
    try:
        named = str(tomllib.loads(mapping).get("encoding", ""))
    except tomllib.TOMLDecodeError:
        named = ""  # the service says what is wrong with the mapping
    encoding = "utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else named or "utf-8-sig"
    try:
        return raw.decode(encoding)
    except (UnicodeDecodeError, LookupError) as error:
        fail(BAD_INPUT, f"{file} is not {encoding}: {error}", "Save it as UTF-8, or name its encoding in a mapping")
