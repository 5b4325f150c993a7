"""How the CLI speaks: tables, JSON and CSV on standard output, errors and next steps on standard error."""

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
from rich.console import Console
from rich.markup import escape
from rich.table import Table

from doorstone.client import errors as client_errors
from doorstone.formats.tables import csv_text

FAILED, USAGE, REFUSED, BAD_INPUT, MISSING, ACCESS, UNREACHABLE = 1, 2, 3, 4, 5, 6, 7  # 0 is done

P = ParamSpec("P")
R = TypeVar("R")


class Form(StrEnum):
    TABLE = "table"
    JSON = "json"
    CSV = "csv"


FormOption = Annotated[Form, typer.Option("--format", help="How to print.", show_default=True)]

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


def out() -> Console:
    return Console(soft_wrap=False, highlight=False)


def err() -> Console:
    return Console(stderr=True, highlight=False)


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    return value


def show(form: Form, data: Any, columns: Sequence[str], rows: Iterable[Sequence[Any]], title: str = "") -> None:
    """Print `data` as JSON, or `rows` under `columns` as CSV or a table that fits the terminal."""
    if form is Form.JSON:
        sys.stdout.write(json.dumps(_plain(data), indent=2, ensure_ascii=False) + "\n")
        return
    if form is Form.CSV:
        sys.stdout.write(csv_text(columns, rows))
        return
    marked = [column in MARKED for column in columns]
    cells = [
        [
            (MARKS.get(str(value)) if mark else None) or escape(_lines(value))
            for value, mark in zip(row, marked, strict=True)
        ]
        for row in rows
    ]
    if title:
        out().print(f"[bold]{escape(title)}[/]")
    table = Table(box=None, pad_edge=False)
    for at, column in enumerate(columns):
        narrow = all(len(row[at]) <= 12 or row[at] in MARKS.values() for row in cells)
        words = [word for row in cells for word in row[at].split() if row[at] not in MARKS.values()]
        least = min(20, max(map(len, words), default=0))
        table.add_column(column, no_wrap=narrow, overflow="fold", min_width=least, header_style="dim")
    for row in cells:
        table.add_row(*row)
    out().print(table)


def _drawn(column: str, value: Any) -> str:
    mark = MARKS.get(str(value)) if column in MARKED else None
    return mark or escape(_lines(value))


def _lines(value: Any) -> str:
    """A table cell: lists stand one item a line."""
    return "\n".join(str(item) for item in value) if isinstance(value, list | tuple) and value else _text(value)


def _text(value: Any) -> str:
    if value is None or value == "":
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(str(item) for item in value) or "–"
    return str(value)


def say(words: str) -> None:
    """A line for the person, on standard error, so that standard output stays data."""
    err().print(words)


def fail(code: int, detail: str, mend: str = "", troubles: Iterable[tuple[str, str, str]] = ()) -> NoReturn:
    """Say what is wrong and what to do, and leave with `code`."""
    console = err()
    console.print(f"[bold red]✗[/] {escape(detail)}")
    for place, message, fix in troubles:
        console.print(f"  [bold]{escape(place)}[/]: {escape(message.rstrip('.'))}. [dim]{escape(fix)}[/]")
    if mend:
        console.print(f"  → {escape(mend)}")
    raise typer.Exit(code)


@contextmanager
def plain_errors() -> Iterator[None]:
    """Turn the client's errors into an exit code and words."""
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
        troubles = [(t.place, t.message, t.mend) for t in problem.troubles]
        fail(FAILED if problem.status >= 500 else code, problem.detail, problem.mend, troubles)


def speaks(command: Callable[P, R]) -> Callable[P, R]:
    """Decorate a command so that its errors are spoken plainly."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> R:
        with plain_errors():
            return command(*args, **kwargs)

    return run
