"""Backups: one file with the records and every key, and the way back; the check-up of a service."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, TypeVar

import typer

from doorstone.cli.connection import client
from doorstone.cli.output import BAD_INPUT, FAILED, REFUSED, FormOption, OutputFormat, fail, reports_errors, say, show

T = TypeVar("T")
DryOption = Annotated[
    bool, typer.Option("--dry-run", "-n", help="Check everything and say what would happen; change nothing.")
]
DataOption = Annotated[Path, typer.Option(help="Folder of the records.")]


def backup(
    into: Annotated[Path, typer.Argument(help="File to write; it must not be there yet.", dir_okay=False)],
    data: DataOption = Path("doorstone-data"),
    dry: DryOption = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Write a backup of a data folder with its keys, and check it; the service may run meanwhile."""
    from doorstone.work.operations import backup as work

    made = _plainly(lambda: work.make_backup(data, into, dry=dry))
    show(form, _as_data(made), ["file", "sha256"], [[name, digest] for name, digest in made.files.items()])
    done = "It would hold and be written to" if dry else "Written to"
    say(f"{done} {into}: {made.entries} entries. Note the head elsewhere: {made.head or 'none'}")


def restore(
    file: Annotated[Path, typer.Argument(help="A backup.", exists=True, dir_okay=False)],
    data: DataOption = Path("doorstone-data"),
    dry: DryOption = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Restore a backup to a data folder that is empty or does not exist."""
    from doorstone.work.operations import backup as work

    found = _plainly(lambda: work.restore_backup(file, data, dry=dry))
    show(form, _as_data(found), ["file", "sha256"], [[name, digest] for name, digest in found.files.items()])
    if dry:
        say(f"It holds: {found.entries} entries would be restored into {data}. Nothing was changed.")
        return
    say(f"Restored into {data}: {found.entries} entries. Start it: [bold]doorstone serve --data {data}[/]")


@reports_errors
def doctor(
    context: typer.Context,
    deep: Annotated[bool, typer.Option("--deep", help="Read all records and the whole ledger as well.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Check up on the service: records, disk, clock, history, imports, deliveries, rounds. Ends with 1 if anything is
    wrong.
    """
    with client(context) as service:
        found = service.doctor(deep=deep)
    rows = [[check.name, MARKS_OF[check.level], [check.words, check.hint] if check.hint else check.words]
            for check in found.checks]  # fmt: skip
    show(form, found, ["what", "how it is", "in words"], rows)
    if found.level == "wrong":
        raise typer.Exit(FAILED)


MARKS_OF = {"ok": "well", "look": "look at it", "wrong": "WRONG"}


def _as_data(found: object) -> object:
    from msgspec import to_builtins

    return to_builtins(found)


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
