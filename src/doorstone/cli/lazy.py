"""Commands by name, loaded when they are called: help and one command never pay for the others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from importlib import import_module
from typing import Any, ClassVar

import typer
from typer.core import TyperCommand, TyperGroup
from typer.main import get_command, get_group


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
        return command


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
