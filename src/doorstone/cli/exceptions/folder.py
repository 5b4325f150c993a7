"""Exceptions as files: write the register to a folder, compare a reviewed one with it, request what differs."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Annotated

import typer

from doorstone.api.exceptions import FolderChangesRequest, FolderDifferenceResponse
from doorstone.cli.connection import client
from doorstone.cli.dry_run import DRY_RUN
from doorstone.cli.output import (
    BAD_INPUT,
    REFUSED,
    USAGE,
    FormOption,
    OutputFormat,
    err,
    fail,
    reports_errors,
    say,
    show,
)
from doorstone.client import Client

FolderArgument = Annotated[Path, typer.Argument(file_okay=False, help="A folder with a TOML file for each exception.")]


def add_to(app: typer.Typer) -> None:
    """Give the group of exceptions its commands on folders."""
    app.command("to-folder")(to_folder)
    app.command("beside-folder")(beside_folder)
    app.command("from-folder")(from_folder)


@reports_errors
def to_folder(
    context: typer.Context,
    folder: FolderArgument,
    every: Annotated[bool, typer.Option("--every", help="Include those that have ended.")] = False,
) -> None:
    """Write the register to a folder, a TOML file for each exception. Other files there stay, and are named."""
    with client(context) as service:
        data = service.exception_folder(every=every)
    folder.mkdir(parents=True, exist_ok=True)
    with zipfile.ZipFile(io.BytesIO(data)) as bundle:
        files = {Path(entry).name: bundle.read(entry) for entry in bundle.namelist()}
    for name, text in files.items():
        (folder / name).write_bytes(text)
    others = sorted(path.name for path in folder.glob("*.toml") if path.name not in files)
    say(f"{len(files)} files written to {folder}." + (f" Left as they are: {', '.join(others)}." if others else ""))
    say(f"Next: have it reviewed, then [bold]doorstone exception beside-folder {folder}[/]")


def _files(folder: Path) -> dict[str, str]:
    try:
        found = {path.name: path.read_text("utf-8") for path in sorted(folder.glob("*.toml"))}
    except UnicodeDecodeError as error:
        fail(BAD_INPUT, f"A file of {folder} is not UTF-8: {error}", "Save it as UTF-8")
    if not found:
        fail(BAD_INPUT, f"There is no .toml file in {folder}", "Write it first: doorstone exception to-folder")
    return found


@reports_errors
def beside_folder(
    context: typer.Context,
    folder: FolderArgument,
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 3 if anything differs.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show how a reviewed folder differs from the register, and what from-folder would do about it."""
    with client(context) as service:
        found = service.compare_folder(_files(folder))
    _print(form, found)
    if form is OutputFormat.TABLE:
        say(
            "Next: [bold]doorstone exception from-folder[/] FOLDER --reference REVISION"
            if found
            else "Nothing differs."
        )
    if strict and found:
        raise typer.Exit(REFUSED)


def _print(form: OutputFormat, found: list[FolderDifferenceResponse]) -> None:
    rows = [
        [
            one.file or "no file",
            one.exception or "new",
            [deed.replace("-", " ") for deed in one.deeds],
            [f"{change.name}: {change.in_register} → {change.in_file}" for change in one.changes] or one.hint,
            one.hint if one.changes else "",
        ]
        for one in found
    ]
    if found or form is not OutputFormat.TABLE:
        show(form, found, ["file", "exception", "what follows", "register → file", "by hand"], rows)


@reports_errors
def from_folder(
    context: typer.Context,
    folder: FolderArgument,
    reference: Annotated[str, typer.Option(help="The revision that the folder is of; it stands with each change.")],
    acknowledge_risk: Annotated[
        bool, typer.Option("--acknowledge-risk", help="You have read the risk statement and take it on.")
    ] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Request the differences between a reviewed folder and the register. Nothing is approved."""
    files = _files(folder)
    with client(context) as service:
        risk, notices = _statements(service, files, acknowledge_risk)
        request = FolderChangesRequest(
            files=files, reference=reference, risk_acknowledged=risk, notices_acknowledged=notices
        )
        found = service.request_folder(request)
        left = [one for one in service.compare_folder(files) if "by-hand" in one.deeds] if not DRY_RUN.get() else []
    rows = [[one.file, one.exception, one.deed.replace("-", " ")] for one in found]
    show(form, found, ["file", "exception", "done"], rows)
    if form is OutputFormat.TABLE and left:
        say(f"By hand: {len(left)}. See [bold]doorstone exception beside-folder {folder}[/]")


def _statements(service: Client, files: dict[str, str], given: bool) -> tuple[str, list[str]]:
    """The risk statement and notices of what would be requested, shown to whoever has not acknowledged them."""
    wanted = {"request", "request-anew"}
    if not any(wanted & set(one.deeds) for one in service.compare_folder(files)):
        return "", []
    platforms = service.platforms()
    found = [service.risk(one.id, release.id) for one in platforms for release in one.releases]
    notices = sorted({one.notice for one in found if one.notice})
    if not given:
        for text in (found[0].text, *notices):
            err().print(text)
        fail(USAGE, "The risk is not acknowledged", "Read the statement and add --acknowledge-risk")
    return found[0].text, notices
