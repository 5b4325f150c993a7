"""The `doorstone` command: groups in the job's order."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar

import typer

from doorstone import __version__
from doorstone.cli.dry_run import DRY_RUN
from doorstone.cli.lazy import LazyGroup, Place

DESCRIBE, READ, SORT, EXCEPT = "1. Describe", "2. Read", "3. Sort", "4. Except"
UPGRADE, FOLLOW, ACCOUNT, RUN = "5. Upgrade", "6. Follow", "7. Account", "8. Run the service"


class JobOrder(LazyGroup):
    """The commands in the job's order."""

    places: ClassVar[Mapping[str, Place]] = {
        "sheet": Place(
            DESCRIBE, "platforms", "app", "Describe a platform: its releases, requirements, fixes and overrides."
        ),
        "task": Place(DESCRIBE, "platforms", "task_app", "Work through the tasks that changed sheets leave."),
        "collect": Place(
            READ,
            "collect",
            "collect",
            "Read this machine through its public files, and say what could not be read and why.",
        ),
        "reading": Place(READ, "readings", "app", "Bring in what sources report about devices."),
        "device": Place(READ, "devices", "app", "Show and change devices; record their life."),
        "dispute": Place(READ, "devices", "dispute_app", "See where sources disagree, and settle it."),
        "sort": Place(SORT, "sorting", "sort", "Sort a file of readings against a sheet, with no service at all."),
        "sorting": Place(SORT, "sorting", "app", "See how requirements are sorted, and decide."),
        "fix": Place(SORT, "fleet", "fix_app", "See what to fix first, device by device and site by site."),
        "fleet": Place(SORT, "fleet", "fleet_app", "Count the fleet, compare targets, ask what if."),
        "selection": Place(SORT, "fleet", "selection_app", "Save a choice of devices under a name."),
        "exception": Place(
            EXCEPT, "exceptions.commands", "app", "Request, decide and follow exceptions for what cannot be fixed."
        ),
        "media": Place(UPGRADE, "media", "app", "Record set-up media, and plan which of them a batch needs."),
        "kit": Place(UPGRADE, "kits", "app", "Choose overrides, make a kit for exactly what is excepted."),
        "attempt": Place(UPGRADE, "attempts", "attempt_app", "Record attempts at an upgrade and their results."),
        "follow-up": Place(
            FOLLOW,
            "forecast",
            "follow_up_app",
            "List and settle what an upgrade left to do; show what has drifted since.",
        ),
        "observe": Place(FOLLOW, "attempts", "observe_app", "Record what is seen of updates, and compare."),
        "forecast": Place(
            FOLLOW,
            "attempts",
            "forecast",
            "Forecast a device: which releases it can reach, how, until when, and what ends it.",
        ),
        "scenarios": Place(
            FOLLOW,
            "forecast",
            "scenarios",
            "Compare a device's forecast under several assumptions, and what each way costs.",
        ),
        "suppose": Place(
            FOLLOW,
            "forecast",
            "suppose",
            "Suppose other dates, ends, fixes, approvals or sorts, and see the forecast before and after.",
        ),
        "plan": Place(
            FOLLOW,
            "forecast",
            "plan",
            "Plan a budget: which way each device takes so that it buys the most serviced device-months.",
        ),
        "budget": Place(
            FOLLOW,
            "forecast",
            "budget",
            "Write a budget paper: budgets side by side, replacements per quarter, what a new machine has to meet.",
        ),
        "due": Place(
            FOLLOW,
            "notifications",
            "due",
            "List what is due: decisions, second looks, reviews, lapses, conditions, rollbacks that end, checks.",
        ),
        "ledger": Place(ACCOUNT, "ledger", "app", "Read and check the record of every decision."),
        "evidence": Place(
            ACCOUNT, "ledger", "evidence_app", "Hand everything about devices and a period to an auditor, signed."
        ),
        "sign-in": Place(
            RUN, "people", "sign_in", "Sign in: a token of your role is issued and kept for the commands that follow."
        ),
        "person": Place(RUN, "people", "person_app", "Manage people, roles, deputies and second factors."),
        "token": Place(RUN, "people", "token_app", "Issue and revoke tokens for programs and this command line."),
        "me": Place(RUN, "notifications", "me_app", "Your mail, your calendar, your password."),
        "webhook": Place(
            RUN,
            "notifications",
            "webhook_app",
            "Send events to other programs.",
        ),
        "serve": Place(RUN, "serve", "serve", "Run the service and its console until it is stopped."),
        "doctor": Place(
            RUN, "operations", "doctor", "Check up on the service: records, disk, history, imports, deliveries, rounds."
        ),
        "backup": Place(
            RUN, "operations", "backup", "Write the records and every key to one file, even while the service runs."
        ),
        "restore": Place(RUN, "operations", "restore", "Restore a backup to a new data folder."),
        "openapi": Place(RUN, "serve", "openapi", "Print the OpenAPI document of the service."),
    }


app = typer.Typer(
    name="doorstone",
    cls=JobOrder,
    no_args_is_help=True,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110},
    help=(
        "Carry devices over upgrade requirements they do not meet, with every exception accounted for.\n\n"
        "In the job's order: load a sheet, import readings and look at devices, sort what fails, request an "
        "exception for what cannot be fixed, make a kit, record the attempt, observe updates, and read the forecast."
    ),
    epilog=(
        "Exit codes: 0 done, 1 the service failed, 2 wrong usage, 3 refused by a rule, 4 bad input, "
        "5 no such thing, 6 not signed in or not allowed, 7 no answer."
    ),
)


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
    in_place_of: Annotated[
        str,
        typer.Option("--for", envvar="DOORSTONE_FOR", help="Act as this person's deputy; the ledger says so."),
    ] = "",
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and exit.")
    ] = False,
) -> None:
    # The client library is loaded by the command that calls it: help is not to wait for it.
    context.obj = (server, token, in_place_of)
    DRY_RUN.set(False)


def run() -> None:
    app()


if __name__ == "__main__":
    run()
