"""The first help of the command: what it is for, its options, its commands in the job's order.

Drawn with the two parts of Rich that it takes, so that it stands there at once.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from typing import Any

from rich.console import Console, Group, RenderableType
from rich.panel import Panel
from rich.table import Table
from rich.text import Text


def print_overview(ctx: Any, panels: Iterable[tuple[str, list[tuple[str, str]]]]) -> None:
    """Print the help of the root; `panels` are titles with their commands, each with its words."""
    command = ctx.command
    usage = Text.assemble((" Usage: ", "bold yellow"), f"{ctx.command_path} [OPTIONS] COMMAND [ARGS]...")
    parts: list[RenderableType] = ["", usage, ""]
    for paragraph in command.help.split("\n\n"):
        parts += [_indented(paragraph), ""]
    parts.append(_panel("Options", [_option(one, ctx) for one in command.get_params(ctx)]))
    listed = list(panels)
    wide = max(len(name) for _, rows in listed for name, _ in rows)
    parts += [_panel(title, [(Text(name, "bold cyan"), words) for name, words in rows], wide) for title, rows in listed]
    parts += ["", _indented(command.epilog), ""]
    Console(file=sys.stdout).print(Group(*parts))


def _indented(text: str) -> Table:
    grid = Table.grid(padding=(0, 1))
    grid.add_row("", Text.from_markup(text, emoji=False))
    return grid


def _option(option: Any, ctx: Any) -> tuple[RenderableType, str]:
    words = option.help or ""
    if option.envvar:
        words += f" [env var: {option.envvar}]"
    default = option.get_default(ctx, call=False)
    if isinstance(default, str) and default:
        words += f" [default: {default}]"
    name = Text(", ".join(sorted(option.opts, key=len, reverse=True)), "bold cyan")
    if not option.is_flag:
        name.append(" TEXT", "yellow")
    return name, words


def _panel(title: str, rows: Iterable[tuple[RenderableType, str]], wide: int = 0) -> Panel:
    grid = Table.grid(padding=(0, 2))
    grid.add_column(no_wrap=True, min_width=wide)
    grid.add_column()
    for name, words in rows:
        grid.add_row(name, Text(words))
    return Panel(grid, title=title, title_align="left", border_style="dim")
