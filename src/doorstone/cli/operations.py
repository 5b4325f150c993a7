"""Backups: one file with the records and every key, and the way back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, TypeVar

import typer

from doorstone.cli.output import BAD_INPUT, FAILED, REFUSED, FormOption, OutputFormat, fail, say, show

T = TypeVar("T")
DataOption = Annotated[Path, typer.Option(help="Folder of the records.")]


def backup(
    into: Annotated[Path, typer.Argument(help="File to write; it must not be there yet.", dir_okay=False)],
    data: DataOption = Path("doorstone-data"),
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Write a backup of a data folder, with every key, also while a service works there; it is checked once written."""
    from doorstone.work.operations import backup as work

    made = _plainly(lambda: work.make_backup(data, into))
    show(form, _as_data(made), ["file", "sha256"], [[name, digest] for name, digest in made.files.items()])
    say(f"Written to {into}: {made.entries} entries. Note the head elsewhere: {made.head or 'none'}")


def restore(
    file: Annotated[Path, typer.Argument(help="A backup.", exists=True, dir_okay=False)],
    data: DataOption = Path("doorstone-data"),
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Make a data folder of a backup. It must be empty or not there; nothing is written over."""
    from doorstone.work.operations import backup as work

    found = _plainly(lambda: work.restore_backup(file, data))
    show(form, _as_data(found), ["file", "sha256"], [[name, digest] for name, digest in found.files.items()])
    say(f"Restored into {data}: {found.entries} entries. Start it: [bold]doorstone serve --data {data}[/]")


def _as_data(found: object) -> object:
    from dataclasses import asdict

    return asdict(found)  # type: ignore[call-overload]


def _plainly(act: Callable[[], T]) -> T:
    from doorstone.work.context.errors import RefusedError, WorkError
    from doorstone.work.operations.backup import DamagedError

    try:
        return act()
    except DamagedError as error:
        fail(FAILED, str(error), "Use another backup")
    except WorkError as error:
        fail(REFUSED if isinstance(error, RefusedError) else BAD_INPUT, error.detail, error.hint)
    except OSError as error:
        fail(FAILED, f"{error.filename or ''}: {error.strerror}", "Look at the folder and its disk")
