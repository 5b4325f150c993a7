"""The due list, the calendar, the own account, webhooks."""

from __future__ import annotations

from typing import Annotated

import typer

from doorstone.api.notifications import WebhookRequest, WebhookResponse
from doorstone.api.people import OwnChangeRequest
from doorstone.cli.connection import client, connection_of
from doorstone.cli.output import FormOption, OutputFormat, asked_for, reports_errors, say, show
from doorstone.core.due.items import DueKind, LateCost

webhook_app = typer.Typer(no_args_is_help=True)
me_app = typer.Typer(no_args_is_help=True)
WebhookArgument = Annotated[str, typer.Argument(metavar="HOOK", help="Webhook id, such as HK-0001.")]


IF_LATE = {
    LateCost.PERMISSION: "runs without permission",
    LateCost.LOST: "cannot be made good",
    LateCost.WAITING: "somebody waits",
    LateCost.UNKNOWN: "nobody knows",
}


@reports_errors
def due(
    context: typer.Context,
    mine: Annotated[bool, typer.Option("--mine", help="Only what concerns you.")] = False,
    kind: Annotated[
        DueKind | None,
        typer.Option(metavar="<kind>", help=f"Only what is to be done for this reason: {', '.join(DueKind)}."),
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List what is due, what costs most to be late with first: devices without permission, decisions, drift, checks.

    With --kind it is the fleet-wide list of one thing: --kind drift, --kind uncovered.
    """
    with client(context) as service:
        found = service.due(mine=mine, kind=kind.value if kind else "")
    rows = [[f"{d.on}{' overdue' if d.overdue else ''}", d.kind, d.words, IF_LATE[d.late_cost]] for d in found]
    typed = [[d.on, d.overdue, d.kind, d.late_cost, d.object_kind, d.object, d.words] for d in found]
    columns = ["by", "overdue", "kind", "if late", "of", "object", "to do"]
    if found or form is not OutputFormat.TABLE:
        show(form, found, ["by", "what", "to do", "if late"], rows, typed=(columns, typed))
    else:
        say("Nothing is due.")


@me_app.command("show")
@reports_errors
def show_me(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """Show who you are here, and which mail you get."""
    with client(context) as service:
        me = service.me()
    rows = [[me.name, me.role, [f"{s}: {r}" for s, r in me.sites.items()], me.email, me.news, me.has_calendar]]
    show(form, me, ["name", "role", "greater at", "mail", "news", "calendar"], rows)


@me_app.command("mail")
@reports_errors
def choose_mail(
    context: typer.Context,
    email: Annotated[str | None, typer.Option(help="Where to write to.")] = None,
    of: Annotated[
        list[str] | None, typer.Option(help="request, decision, question, comment, transfer or due; repeat for more.")
    ] = None,
    nothing: Annotated[bool, typer.Option("--nothing", help="Get no mail.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Choose which mail you get."""
    kinds = [] if nothing else of
    with client(context) as service:
        request = OwnChangeRequest.model_validate({"email": email, "news": kinds})
        me = service.change_me(service.me().version, request)
    show(form, me, ["mail", "news"], [[me.email, me.news]])


@me_app.command("calendar")
@reports_errors
def calendar(
    context: typer.Context,
    revoke: Annotated[bool, typer.Option("--revoke", help="Revoke the address.")] = False,
) -> None:
    """Make an address for your calendar of due dates; the one before is revoked."""
    with client(context) as service:
        if revoke:
            service.revoke_calendar()
            say("The address answers no more.")
            return
        path = service.make_calendar()
    typer.echo(connection_of(context).server.rstrip("/") + path)
    say("Whoever has this address can read it. It is not shown again; --revoke ends it.")


@me_app.command("second-factor")
@reports_errors
def second_factor(
    context: typer.Context,
    code: Annotated[str, typer.Option(help="Confirm with the first code that the authenticator shows.")] = "",
    remove: Annotated[bool, typer.Option("--remove", help="Remove your second factor.")] = False,
    current: Annotated[
        str, typer.Option(help="A code of the second factor that is set, to replace or remove it.")
    ] = "",
) -> None:
    """Set up a second factor: run it without options, then confirm with --code."""
    with client(context) as service:
        if remove:
            service.drop_second_factor(code=current)
            say("A sign-in takes the password only.")
        elif code:
            service.confirm_second_factor(code)
            say("From now on a sign-in takes a code as well.")
        else:
            typer.echo(service.begin_second_factor(current))
            say("Give this to your authenticator. Then confirm: [bold]doorstone me second-factor --code CODE[/]")


@me_app.command("password")
@reports_errors
def password(
    context: typer.Context,
    old: Annotated[str, typer.Option(help="Your current password. Prompted for if left out.", show_default=False)] = "",
    new: Annotated[
        str, typer.Option(help="At least 10 characters. Prompted for if left out.", show_default=False)
    ] = "",
) -> None:
    """Change your password. All your sessions end."""
    with client(context) as service:
        service.set_my_password(old or asked_for("Old password"), new or asked_for("New password", twice=True))
    say("Set. Sign in again with the new one.")


def _print(form: OutputFormat, data: object, webhooks: list[WebhookResponse]) -> None:
    rows = [
        [h.id, h.url, h.kinds or "all", "active" if h.active else "removed", f"{h.by}, {h.at.date()}"] for h in webhooks
    ]
    show(form, data, ["webhook", "address", "events", "sends", "by"], rows)


@webhook_app.command("add")
@reports_errors
def add_webhook(
    context: typer.Context,
    url: Annotated[str, typer.Argument(help="URL that receives the events.")],
    event: Annotated[list[str] | None, typer.Option(help="Kind of events, such as exception; all if left out.")] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Send events to an address. The secret that signs them is printed once."""
    with client(context) as service:
        found = service.add_webhook(WebhookRequest(url=url, kinds=event or []))
    _print(form, found, [found])
    if form is OutputFormat.TABLE:
        typer.echo(found.secret)
        say(f"This secret is not shown again. Try it: [bold]doorstone webhook try {found.id}[/]")


@webhook_app.command("list")
@reports_errors
def list_webhooks(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List webhooks."""
    with client(context) as service:
        found = service.webhooks()
    _print(form, found, found)


@webhook_app.command("try")
@reports_errors
def try_webhook(context: typer.Context, webhook: WebhookArgument) -> None:
    """Send a test event in the next round."""
    with client(context) as service:
        service.try_webhook(webhook)
    say(f"On its way. Look: [bold]doorstone webhook log {webhook}[/]")


@webhook_app.command("log")
@reports_errors
def log(context: typer.Context, webhook: WebhookArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """List what was sent or is waiting, newest first."""
    with client(context) as service:
        found = service.deliveries(webhook)
    rows = [[d.event, d.kind, d.state, d.tries, d.answer] for d in found]
    show(form, found, ["event", "kind", "", "tries", "last answer"], rows)


@webhook_app.command("remove")
@reports_errors
def remove_webhook(context: typer.Context, webhook: WebhookArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Remove a webhook."""
    with client(context) as service:
        found = service.remove_webhook(webhook)
    _print(form, found, [found])
