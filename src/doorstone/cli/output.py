"""Output of the CLI: tables, JSON and CSV on standard output, errors and next steps on standard error."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from enum import StrEnum
from functools import wraps
from typing import Annotated, Any, NoReturn, ParamSpec, TypeVar

import typer
from pydantic import BaseModel, ValidationError
from rich.cells import cell_len
from rich.console import Console
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from doorstone.cli.dry_run import DRY_RUN
from doorstone.client import errors as client_errors
from doorstone.core.text import escaped
from doorstone.formats.safe_csv import csv_text

FAILED, USAGE, REFUSED, BAD_INPUT, MISSING, ACCESS, UNREACHABLE = 1, 2, 3, 4, 5, 6, 7  # 0 is done

P = ParamSpec("P")
R = TypeVar("R")


class OutputFormat(StrEnum):
    TABLE = "table"
    JSON = "json"
    CSV = "csv"


FormOption = Annotated[OutputFormat, typer.Option("--format", help="How to print.", show_default=True)]

MARKS = {
    "met": "[green]●[/] met",
    "fixable": "[cyan]◆[/] fixable",
    "installer-check": "[yellow]▲[/] installer check",
    "floor": "[red]■[/] floor",
    "unsorted": "[magenta]?[/] unsorted",
    "unread": "[magenta]○[/] unread",
    "disputed": "[magenta]≠[/] disputed",
}


MARKED = ("finding", "sort")
"""Columns in which a mark is drawn as it is in the strip."""
LEGEND = "  ".join(MARKS.values())


def strip(marks: Mapping[str, str]) -> str:
    """A device's findings as one strip, a glyph per requirement in the sheet's order."""
    return "".join(MARKS[mark].split("]")[1].removesuffix("[/") for mark in marks.values())


class PlainConsole(Console):
    """A console that shows characters which would change the terminal as escapes, wherever the text came from."""

    def print(self, *objects: Any, **how: Any) -> None:
        super().print(*(escaped(one) if isinstance(one, str) else one for one in objects), **how)


def out() -> Console:
    return PlainConsole(soft_wrap=False, highlight=False)


def err() -> Console:
    return PlainConsole(stderr=True, highlight=False)


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    return value


def show(
    form: OutputFormat,
    data: Any,
    columns: Sequence[str],
    rows: Iterable[Sequence[Any]],
    title: str = "",
    typed: tuple[Sequence[str], Iterable[Sequence[Any]]] | None = None,
) -> None:
    """Print `data` as JSON, or `rows` under `columns` as CSV or as a table that loses nothing.

    `typed` are columns and rows for CSV, where those of the table are drawn or shortened for people.
    """
    if form is OutputFormat.JSON:
        sys.stdout.write(escaped(json.dumps(_plain(data), indent=2, ensure_ascii=False)) + "\n")
        return
    if form is OutputFormat.CSV:
        sys.stdout.write(escaped(csv_text(*(typed or (columns, rows)))))
        return
    marked = [column in MARKED for column in columns]
    cells = [
        [
            (MARKS.get(str(value)) if mark else None) or escape(_lines(value))
            for value, mark in zip(row, marked, strict=True)
        ]
        for row in rows
    ]
    console = out()
    if title:
        console.print(f"[bold]{escape(title)}[/]")
    if not cells:
        console.print("[dim]None.[/]")
        return
    widths = fitting(columns, cells, console.width)
    if widths is None:
        _records(console, columns, cells)
        return
    table = Table(box=None, pad_edge=False)
    for column, width in zip(columns, widths, strict=True):
        table.add_column(column, width=width, overflow="fold", header_style="dim")
    for row in cells:
        table.add_row(*row)
    console.print(table)


GAP = 2


def fitting(columns: Sequence[str], cells: Sequence[Sequence[str]], width: int) -> list[int] | None:
    """The width of each column in a terminal so wide: no word is broken. None where the words alone do not fit."""
    plain = [[Text.from_markup(cell).plain for cell in row] for row in cells]
    held = [[column, *(row[at] for row in plain)] for at, column in enumerate(columns)]
    least = [max((cell_len(word) for cell in column for word in cell.split()), default=1) for column in held]
    chosen = [max((cell_len(line) for cell in column for line in cell.split("\n")), default=1) for column in held]
    room = width - GAP * (len(columns) - 1)
    if sum(least) > room:
        return None
    while sum(chosen) > room:
        at = max((n for n in range(len(chosen)) if chosen[n] > least[n]), key=lambda n: chosen[n])
        chosen[at] -= 1
    return chosen


def _records(console: Console, columns: Sequence[str], cells: Sequence[Sequence[str]]) -> None:
    """Each row as a record of its own, a line a column, where a table would have to break words."""
    label = max(map(cell_len, columns), default=0)
    for number, row in enumerate(cells):
        if number:
            console.print()
        record = Table(box=None, pad_edge=False, show_header=False)
        record.add_column(width=min(label, console.width // 3), style="dim", overflow="fold")
        record.add_column(overflow="fold", ratio=1)
        for column, cell in zip(columns, row, strict=True):
            record.add_row(column, cell)
        console.print(record)


def _lines(value: Any) -> str:
    """A table cell: lists stand one item a line."""
    text = "\n".join(str(item) for item in value) if isinstance(value, list | tuple) and value else _text(value)
    return escaped(text)


def _text(value: Any) -> str:
    if value is None or value == "":
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(str(item) for item in value) or "–"
    return str(value)


def say(words: str) -> None:
    """A line for the person, on standard error, so that standard output stays data. A dry run has no next step."""
    if not DRY_RUN.get():
        err().print(words)


def asked_for(what: str, *, twice: bool = False) -> str:
    """Prompt for a secret on the terminal, without showing it; `twice` asks for it again."""
    return str(typer.prompt(what, hide_input=True, confirmation_prompt=twice))


def fail(code: int, detail: str, hint: str = "", errors: Iterable[tuple[str, str, str]] = ()) -> NoReturn:
    """Print what is wrong and what to do, and exit with `code`."""
    console = err()
    console.print(f"[bold red]✗[/] {escape(detail)}")
    for place, message, fix in errors:
        console.print(f"  [bold]{escape(place)}[/]: {escape(message.rstrip('.'))}. [dim]{escape(fix)}[/]")
    if hint:
        console.print(f"  → {escape(hint)}")
    raise typer.Exit(code)


@contextmanager
def plain_errors() -> Iterator[None]:
    """Turn the client's errors into a message and an exit code."""
    try:
        yield
    except ValidationError as error:
        found = [(".".join(map(str, e["loc"])), e["msg"], "See --help") for e in error.errors(include_url=False)]
        fail(USAGE, "An option cannot be used as given", "", found)
    except client_errors.UnreachableError as error:
        fail(UNREACHABLE, str(error), "Start it with 'doorstone serve', or name its address with --server")
    except client_errors.ProblemError as error:
        problem = error.problem
        code = {401: ACCESS, 403: ACCESS, 404: MISSING, 409: REFUSED, 412: REFUSED}.get(problem.status, BAD_INPUT)
        errors = [(t.pointer, t.detail, t.hint) for t in problem.errors]
        fail(FAILED if problem.status >= 500 else code, problem.detail, problem.hint, errors)


def reports_errors(command: Callable[P, R]) -> Callable[P, R]:
    """Decorate a command so that its errors become a message and an exit code."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> R:
        with plain_errors():
            found = command(*args, **kwargs)
            if DRY_RUN.get():
                err().print("Nothing was changed; it was a dry run.")
            return found

    return run
