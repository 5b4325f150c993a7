"""Running the service from the command line."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from doorstone.cli.output import FAILED, USAGE, fail


def serve(
    data: Annotated[Path | None, typer.Option(help="Folder of the records.  [default: doorstone-data]")] = None,
    host: Annotated[str | None, typer.Option(help="Address to listen on.  [default: 127.0.0.1]")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen on.  [default: 8640]")] = None,
    as_of: Annotated[
        datetime | None, typer.Option(formats=["%Y-%m-%d"], help="Fix the clock to this day; for trials.")
    ] = None,
) -> None:
    """Run the service and its console until it is stopped."""
    from pydantic import ValidationError

    from doorstone.service.config import Config, ConfigError
    from doorstone.service.serve import BusyFolderError, BusyPortError, DamagedError
    from doorstone.service.serve import serve as run

    given: dict[str, Any] = {"data": data, "host": host, "port": port, "as_of": as_of.date() if as_of else None}
    try:
        config = Config(**{name: value for name, value in given.items() if value is not None})
    except ConfigError as error:
        fail(USAGE, f"{error.place}: {error.message}", error.hint)
    except ValidationError as error:
        errors = [(".".join(map(str, e["loc"])), e["msg"], "See the configuration reference") for e in error.errors()]
        fail(USAGE, "The configuration cannot be used", "Correct each setting", errors)
    try:
        run(config)
    except BusyFolderError as error:
        fail(FAILED, str(error), "Stop the other one, or name another folder with --data")
    except DamagedError as error:
        fail(FAILED, str(error), "Nothing was changed")
    except BusyPortError as error:
        fail(FAILED, str(error), "Choose another with --port, or stop what listens there")


def openapi() -> None:
    """Print the OpenAPI document of the service."""
    import json

    from doorstone.service.app import api_document

    typer.echo(json.dumps(api_document(), indent=1))
