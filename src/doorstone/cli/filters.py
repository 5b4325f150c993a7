"""Options that choose devices, shared by every command that looks at many of them."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from doorstone.api.devices import DeviceFilter

PlatformOption = Annotated[
    str, typer.Option("--platform", "-p", help="Platform; the one with most devices if left out.")
]
ReleaseOption = Annotated[str, typer.Option("--release", "-r", help="Target release; the last published if left out.")]
StateOption = Annotated[str, typer.Option(help="clear, fixable, excepted, needs-exception, floored or unsettled.")]
SiteOption = Annotated[str, typer.Option(help="Only this site.")]
RoleOption = Annotated[str, typer.Option(help="Only this role.")]
ModelOption = Annotated[str, typer.Option(help="Only this machine model.")]
RequirementOption = Annotated[str, typer.Option(help="Only where this requirement is not met.")]
WordsOption = Annotated[str, typer.Option(help="Words in id, name, site, role or model.")]
SelectionOption = Annotated[str, typer.Option(help="A saved selection; the other options come on top.")]


def filter_options(**where: str) -> dict[str, Any]:
    """The conditions that were given, for a query."""
    return {name: value for name, value in where.items() if value}


def filter_of(**where: str) -> DeviceFilter:
    return DeviceFilter(**where)
