"""The first help of the command: what it is for, its options, its commands in the job's order.

Written in plain text, with nothing to load for it, so that it stands there at once.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import typer


def write_overview(ctx: Any, formatter: Any, panels: Iterable[tuple[str, list[tuple[str, str]]]]) -> None:
    """Write the help of the root; `panels` are titles with their commands, each with its words."""
    command = ctx.command
    formatter.write_usage(ctx.command_path, "[OPTIONS] COMMAND [ARGS]...")
    for paragraph in command.help.split("\n\n"):
        formatter.write_paragraph()
        formatter.write_text(re.sub(r"\[/?\w*\]", "", paragraph))
    with formatter.section(_title("Options")):
        formatter.write_dl([one.get_help_record(ctx) for one in command.get_params(ctx)])
    listed = list(panels)
    wide = max(len(name) for _, rows in listed for name, _ in rows)
    for title, rows in listed:
        with formatter.section(_title(title)):
            formatter.write_dl([(typer.style(name.ljust(wide), fg="cyan"), words) for name, words in rows])
    formatter.write_paragraph()
    formatter.write_text(command.epilog)


def _title(text: str) -> str:
    return typer.style(text, bold=True)
