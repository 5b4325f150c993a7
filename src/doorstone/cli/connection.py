"""Which service the CLI talks to, and as whom."""

from __future__ import annotations

from dataclasses import dataclass

import typer

from doorstone.client import Client
from doorstone.formats.wire import PlatformShape


@dataclass(frozen=True, slots=True)
class Connection:
    server: str
    token: str


def client(context: typer.Context) -> Client:
    """A client for the service named by --server and --token, or their variables."""
    connection = context.find_object(Connection)
    assert connection is not None
    return Client(connection.server, connection.token or None)


def the_platform(service: Client, platform: str) -> PlatformShape:
    """The platform named, or the only one there is."""
    if platform:
        return service.platform(platform)
    found = service.platforms()
    if len(found) != 1:
        names = ", ".join(p.id for p in found) or "none; load a sheet first"
        raise typer.BadParameter(f"Name one with --platform. There is: {names}")
    return found[0]
