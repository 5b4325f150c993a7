"""The `doorstone` command: groups in the job's order."""

from __future__ import annotations

from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from doorstone import __version__
from doorstone.cli import after, devices, exceptions, kits, ledger, people, serving, sheets, sorting
from doorstone.cli.connection import Connection

ORDER = (
    *("sheet", "device", "sort", "sorting", "exception", "kit", "attempt", "observe", "forecast", "ledger"),
    *("sign-in", "person", "token", "serve", "openapi"),
)


class JobOrder(TyperGroup):
    """Lists commands in the job's order, not in that of their declaration."""

    def list_commands(self, ctx: Any) -> list[str]:
        return sorted(super().list_commands(ctx), key=ORDER.index)


app = typer.Typer(
    name="doorstone",
    cls=JobOrder,
    no_args_is_help=True,
    rich_markup_mode="rich",
    context_settings={"help_option_names": ["-h", "--help"]},
    help=(
        "Carry devices over upgrade requirements they do not meet, with every exception accounted for.\n\n"
        "In the job's order: load a [bold]sheet[/], import readings and look at [bold]device[/]s, [bold]sort[/] what "
        "fails, request an [bold]exception[/] for what cannot be fixed, make a [bold]kit[/], record the "
        "[bold]attempt[/], [bold]observe[/] updates, and read the [bold]forecast[/]."
    ),
    epilog=(
        "Exit codes: 0 done, 1 the service failed, 2 wrong usage, 3 refused by a rule, 4 bad input, "
        "5 no such thing, 6 not signed in or not allowed, 7 no answer."
    ),
)
app.add_typer(sheets.app, name="sheet", rich_help_panel="1. Describe")
app.add_typer(devices.app, name="device", rich_help_panel="2. Read")
app.command("sort", rich_help_panel="3. Sort")(sorting.sort)
app.add_typer(sorting.app, name="sorting", rich_help_panel="3. Sort")
app.add_typer(exceptions.app, name="exception", rich_help_panel="4. Except")
app.add_typer(kits.app, name="kit", rich_help_panel="5. Upgrade")
app.add_typer(after.attempt_app, name="attempt", rich_help_panel="5. Upgrade")
app.add_typer(after.observe_app, name="observe", rich_help_panel="6. Follow")
app.command("forecast", rich_help_panel="6. Follow")(after.forecast)
app.add_typer(ledger.app, name="ledger", rich_help_panel="7. Account")
app.command("sign-in", rich_help_panel="8. Run the service")(people.sign_in)
app.add_typer(people.person_app, name="person", rich_help_panel="8. Run the service")
app.add_typer(people.token_app, name="token", rich_help_panel="8. Run the service")
app.command("serve", rich_help_panel="8. Run the service")(serving.serve)
app.command("openapi", rich_help_panel="8. Run the service")(serving.openapi)


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"doorstone {__version__}")
        raise typer.Exit()


@app.callback()
def main(
    context: typer.Context,
    server: Annotated[
        str, typer.Option(envvar="DOORSTONE_SERVER", help="Address of the service.")
    ] = "http://127.0.0.1:8640",
    token: Annotated[
        str, typer.Option(envvar="DOORSTONE_TOKEN", help="Bearer token; issue one with 'token issue'.")
    ] = "",
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and leave.")
    ] = False,
) -> None:
    context.obj = Connection(server, token)


def run() -> None:
    app()


if __name__ == "__main__":
    run()
