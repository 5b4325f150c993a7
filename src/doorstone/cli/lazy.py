"""Commands by name, loaded when they are called: help and one command never pay for the others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from importlib import import_module
from typing import Annotated, Any, ClassVar

import typer
from typer.core import TyperCommand, TyperGroup
from typer.main import get_command, get_group

from doorstone.cli.dry_run import DRY_RUN


@dataclass(frozen=True, slots=True)
class Place:
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
            found.info.help = self.help
            command = get_group(found)
        else:
            single = typer.Typer(add_completion=False)
            single.command(name)(found)
            command = get_command(single)
        command.name, command.rich_help_panel = name, self.panel
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


class LazyGroup(TyperGroup):
    """A group whose commands are those of `places`, listed in that order."""

    places: ClassVar[Mapping[str, Place]] = {}
    listing = False

    def list_commands(self, ctx: Any) -> list[str]:
        return list(self.places)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        place = self.places.get(cmd_name)
        if place is None:
            return None
        if self.listing:
            return TyperCommand(cmd_name, help=place.help, rich_help_panel=place.panel)
        if cmd_name not in self.commands:
            self.commands[cmd_name] = place.load(cmd_name)
        return self.commands[cmd_name]

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Help lists names and words, for which no command has to be loaded."""
        self.listing = True
        try:
            super().format_help(ctx, formatter)
        finally:
            self.listing = False
