"""Commands by name, loaded when they are called: help and one command never pay for the others.

Help is plain text in the order of the job, the same in a window, a pipe and a screen reader.
"""

from __future__ import annotations

import inspect
from collections import Counter
from collections.abc import Iterator, Mapping
from importlib import import_module
from typing import Annotated, Any, ClassVar, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup
from typer.main import get_command, get_group

from doorstone.cli.dry_run import DRY_RUN


class Place(NamedTuple):
    """Where a command lives: an attribute of a module that is a `Typer` group or a function; and how help lists it."""

    panel: str
    module: str
    attribute: str
    help: str

    def load(self, name: str) -> Any:
        """The command itself."""
        found = getattr(import_module(f"doorstone.cli.{self.module}"), self.attribute)
        command: Any
        if isinstance(found, typer.Typer):
            found.info.help, found.info.cls, found.rich_markup_mode = self.help, PlainGroup, None
            for one in found.registered_commands:
                one.cls = OnceCommand if one.cls in (None, TyperCommand) else one.cls
            command = get_group(found)
        else:
            single = typer.Typer(add_completion=False, rich_markup_mode=None)
            single.command(name, cls=OnceCommand)(found)
            command = get_command(single)
        command.name = name
        _add_dry_runs(command, name)
        return command


WRITING: Mapping[str, str] = {
    "sheet": "load list-load",
    "task": "settle give",
    "device": "import change set-aside retire replace wiped return",
    "dispute": "settle import",
    "reading": "cancel",
    "sorting": "decide withdraw match new-requirement",
    "fix": "record import",
    "selection": "save delete",
    "exception": (
        "renew edit approve decline confirm revoke close withdraw comment attest attach review transfer from-folder"
    ),
    "media": "add verify withdraw",
    "kit": "make",
    "attempt": "record import",
    "follow-up": "settle verified import",
    "observe": "record import",
    "person": "name-deputy end-deputy add change password bind drop-second-factor",
    "token": "issue revoke",
    "me": "mail calendar second-factor password",
    "webhook": "add try remove",
}
"""Commands that write, by group; those of imports and requests have a dry run of their own."""


def _rehearse(given: bool) -> None:
    DRY_RUN.set(given)


def _model(
    dry_run: Annotated[
        bool,
        typer.Option(
            "--dry-run",
            "-n",
            callback=_rehearse,
            expose_value=False,
            help="Check everything and say what would happen; change nothing.",
        ),
    ] = False,
) -> None:
    """A command of which only the option is used."""


def _add_dry_runs(group: Any, name: str) -> None:
    if parts := WRITING.get(name, "").split():
        app = typer.Typer(add_completion=False)
        app.command()(_model)
        options = [one for one in get_command(app).params if one.name == "dry_run"]
        for part in parts:
            group.commands[part].params += options


def refuse_repeated(command: Any, ctx: Any, args: list[str]) -> None:
    """Raise a usage error if an option that takes one value is given more than once: all but the last would be lost."""
    _, _, given = command.make_parser(ctx).parse_args(args=list(args))
    for param, times in Counter(given).items():
        one_value = param.param_type_name == "option" and not (param.multiple or param.is_flag or param.count)
        if times > 1 and one_value:
            raise typer.BadParameter(f"given {times} times; give it once", ctx, param)


class OnceCommand(TyperCommand):
    """A command whose options each stand once, unless they are lists."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if not ctx.resilient_parsing and not {"--help", "-h"} & set(args):
            refuse_repeated(self, ctx, args)
        return list(super().parse_args(ctx, args))


class PlainGroup(TyperGroup):
    """A group whose help lists commands by panel, each with the whole first paragraph of its words."""

    def listed(self, ctx: Any) -> Iterator[tuple[str, str, str]]:
        """The commands in their order: panel, name and words of each."""
        for name in self.list_commands(ctx):
            command = self.get_command(ctx, name)
            if command is not None and not command.hidden:
                first, _, _ = inspect.cleandoc(command.help or "").partition("\n\n")
                yield "Commands", name, " ".join(first.split())

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        panels: dict[str, list[tuple[str, str]]] = {}
        for panel, name, words in self.listed(ctx):
            panels.setdefault(panel, []).append((name, words))
        widest = max((len(name) for rows in panels.values() for name, _ in rows), default=0)
        for panel, rows in panels.items():
            with formatter.section(panel):
                formatter.write_dl(rows, col_spacing=2 + widest - max(len(name) for name, _ in rows))


class LazyGroup(PlainGroup):
    """A group whose commands are those of `places`, listed in that order; to list them, none has to be loaded."""

    places: ClassVar[Mapping[str, Place]] = {}

    def list_commands(self, ctx: Any) -> list[str]:
        return list(self.places)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        place = self.places.get(cmd_name)
        if place is None:
            return None
        if cmd_name not in self.commands:
            self.commands[cmd_name] = place.load(cmd_name)
        return self.commands[cmd_name]

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """The command that is called. A name that is none is answered with those like it; none has to be loaded."""
        loaded = self.commands
        if args and args[0] not in self.places:
            self.commands = {name: TyperCommand(name) for name in self.places}
        try:
            return super().resolve_command(ctx, args)
        finally:
            self.commands = loaded

    def listed(self, ctx: Any) -> Iterator[tuple[str, str, str]]:
        for name, place in self.places.items():
            yield place.panel, name, place.help
