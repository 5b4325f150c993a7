"""Which service the CLI talks to, and as whom."""

from __future__ import annotations

import json
import os
from pathlib import Path

import typer
from msgspec import Struct

from doorstone.api.platforms import PlatformResponse
from doorstone.cli.dry_run import DRY_RUN
from doorstone.client import Client


class Connection(Struct, frozen=True):
    server: str
    token: str
    in_place_of: str = ""


def connection_of(context: typer.Context) -> Connection:
    """The service named by --server and --token, or their variables."""
    return Connection(*context.find_root().obj)


def client(context: typer.Context) -> Client:
    """A client for the service named by --server and --token, or their variables."""
    connection = connection_of(context)
    token = connection.token or saved_tokens().get(connection.server)
    made = Client(connection.server, token, in_place_of=connection.in_place_of)
    made.dry_run = DRY_RUN.get()
    return made


def _token_file() -> Path:
    return Path(typer.get_app_dir("doorstone")) / "tokens.json"


def saved_tokens() -> dict[str, str]:
    """The tokens that 'sign-in' has kept, by address of the service."""
    try:
        found = json.loads(_token_file().read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def save_token(server: str, secret: str) -> Path:
    """Keep a token for later commands, in a file that only its owner reads."""
    path = _token_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    tokens = saved_tokens() | {server: secret}
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        json.dump(tokens, file)
    return path


def the_platform(service: Client, platform: str) -> PlatformResponse:
    """The platform named, or the one with the most devices."""
    if platform:
        return service.platform(platform)
    found = service.platforms()
    if not found:
        raise typer.BadParameter("There is no platform yet. Load a sheet first: doorstone sheet load FILE")
    return found[0]
