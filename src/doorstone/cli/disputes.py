"""Disputes: what sources disagree about, and settling it."""

from __future__ import annotations

from typing import Annotated

import typer

from doorstone.api.disputes import SettlementRequest
from doorstone.cli.connection import client, the_platform
from doorstone.cli.filters import PlatformOption, ReleaseOption
from doorstone.cli.output import FormOption, OutputFormat, reports_errors, say, show

app = typer.Typer(no_args_is_help=True)


@app.command("list")
@reports_errors
def list_disputes(
    context: typer.Context,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    device: Annotated[str, typer.Option(help="Only this device.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List disagreements that change an outcome, side by side."""
    with client(context) as service:
        found = service.disputes(the_platform(service, platform).id, release, device)
    rows = [
        [d.device, d.subject, s.source, s.value, s.taken_at.date(), s.outcome + (" (believed)" if s.believed else "")]
        for d in found
        for s in d.sides
    ]
    show(form, found, ["device", "about", "source", "says", "on", "which gives"], rows)
    if form is OutputFormat.TABLE:
        say("Settle one: [bold]doorstone dispute settle[/] DEVICE SUBJECT VALUE --reason ..." if found else "None.")


@app.command("settle")
@reports_errors
def settle(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    subject: Annotated[str, typer.Argument(help="A fact; or a requirement whose verdict speaks against the facts.")],
    value: Annotated[str, typer.Argument(help="What to believe: a value that a source reports; or met, unmet.")],
    reason: Annotated[str, typer.Option(help="Why, in a sentence.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Name the value to believe. It holds until a newer reading speaks of the subject."""
    kind = "fact" if "." in subject else "requirement"
    with client(context) as service:
        asked = {"device": device, "kind": kind, "subject": subject, "value": value, "reason": reason}
        found = service.settle_dispute(SettlementRequest.model_validate(asked))
    show(form, found, ["settlement", "device", "about", "believed"], [[found.id, device, found.subject, found.value]])
    say(f"Next: [bold]doorstone device show {device}[/]")


@app.command("settled")
@reports_errors
def list_settled(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List how disputes of a device were settled, and which of these still stand."""
    with client(context) as service:
        found = service.settlements(device)
    rows = [[s.id, s.subject, s.value, s.reason, s.by, s.at.date(), s.stands] for s in found]
    show(form, found, ["settlement", "about", "believed", "reason", "by", "on", "stands"], rows)
