"""Collecting: a reading of this machine, without a service."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from doorstone.cli.output import FormOption, OutputFormat, say, show
from doorstone.collect import collect as read_machine
from doorstone.collect import device_name


def collect(
    device: Annotated[str, typer.Option(help="Device id; the machine's own name if left out.")] = "",
    source: Annotated[str, typer.Option(help="Name of the source.")] = "collector",
    root: Annotated[
        Path, typer.Option(exists=True, file_okay=False, help="Where the machine's files are; a recorded tree.")
    ] = Path("/"),
    taken_at: Annotated[datetime | None, typer.Option("--taken-at", help="When; now if left out.")] = None,
    to: Annotated[Path | None, typer.Option("--out", "-o", dir_okay=False, help="File to add the reading to.")] = None,
    form: FormOption = OutputFormat.JSON,
) -> None:
    """Read this machine through its public files, and say what could not be read and why.

    The reading is one line that imports as it is: doorstone collect > here.ndjson, then doorstone reading import.
    """
    found = read_machine(root)
    when = taken_at or datetime.now(UTC).replace(tzinfo=None)
    reading = found.reading(device or device_name(root), source, when)
    line = json.dumps(reading, ensure_ascii=False) + "\n"
    if to is not None:
        with to.open("a", encoding="utf-8") as file:
            file.write(line)
        say(f"{len(found.facts)} facts added to {to}. Next: [bold]doorstone reading import {to}[/]")
    elif form is OutputFormat.JSON:
        typer.echo(line, nl=False)
    else:
        rows = [[n, " ".join(value) if isinstance(value, list) else value] for n, value in found.facts.items()]
        show(form, reading, ["fact", "read"], rows, reading["device"])
    if form is OutputFormat.TABLE:
        show(form, None, ["not read", "because"], [[n, why] for n, why in found.unread.items()], "\nNot read")
    else:
        say(f"{len(found.unread)} facts could not be read: see them with --format table")
