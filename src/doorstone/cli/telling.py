"""What is due, who is told: the due list, the calendar, hooks."""

from __future__ import annotations

from typing import Annotated

import typer

from doorstone.cli.connection import client, connection_of
from doorstone.cli.output import Form, FormOption, asked_for, say, show, speaks
from doorstone.core.due import DueKind
from doorstone.formats.wire_people import HookAsked, HookShape, OwnChangeAsked

hook_app = typer.Typer(no_args_is_help=True)
me_app = typer.Typer(no_args_is_help=True)
HookArgument = Annotated[str, typer.Argument(metavar="HOOK", help="Hook id, such as HK-0001.")]


@speaks
def due(
    context: typer.Context,
    mine: Annotated[bool, typer.Option("--mine", help="Only what concerns you.")] = False,
    kind: Annotated[DueKind | None, typer.Option(help="Only what is to be done for this reason.")] = None,
    form: FormOption = Form.TABLE,
) -> None:
    """List what is due: decisions, reviews, conditions, devices without permission, drift, checks.

    With --kind it is the fleet-wide list of one thing: --kind drift, --kind uncovered.
    """
    with client(context) as service:
        found = service.due(mine=mine, kind=kind.value if kind else "")
    rows = [[f"{d.on}{' overdue' if d.overdue else ''}", d.kind, d.words] for d in found]
    typed = [[d.on, d.overdue, d.kind, d.object_kind, d.object, d.words] for d in found]
    columns = ["by", "overdue", "kind", "of", "object", "to do"]
    show(form, found, ["by", "what", "to do"], rows, typed=(columns, typed))
    if not found:
        say("Nothing is due.")


@me_app.command("show")
@speaks
def show_me(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """Show who you are here, and what you are told of by mail."""
    with client(context) as service:
        me = service.me()
    rows = [[me.name, me.role, [f"{s}: {r}" for s, r in me.sites.items()], me.email, me.told_of, me.has_calendar]]
    show(form, me, ["name", "role", "greater at", "mail", "told of", "calendar"], rows)


@me_app.command("tell")
@speaks
def tell_me(
    context: typer.Context,
    email: Annotated[str | None, typer.Option(help="Where to write to.")] = None,
    of: Annotated[
        list[str] | None, typer.Option(help="request, decision, question, comment, transfer or due; repeat for more.")
    ] = None,
    nothing: Annotated[bool, typer.Option("--nothing", help="Be told of nothing.")] = False,
    form: FormOption = Form.TABLE,
) -> None:
    """Choose what you are told of by mail."""
    told = [] if nothing else of
    with client(context) as service:
        asked = OwnChangeAsked.model_validate({"email": email, "told_of": told})
        me = service.change_me(service.me().version, asked)
    show(form, me, ["mail", "told of"], [[me.email, me.told_of]])


@me_app.command("calendar")
@speaks
def calendar(
    context: typer.Context,
    revoke: Annotated[bool, typer.Option("--revoke", help="Make the address answer no more.")] = False,
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
@speaks
def second_factor(
    context: typer.Context,
    code: Annotated[str, typer.Option(help="Confirm with the first code that the authenticator shows.")] = "",
    remove: Annotated[bool, typer.Option("--remove", help="Do without one again.")] = False,
) -> None:
    """Have a sign-in take a code of an authenticator as well: begin without options, then confirm with --code."""
    with client(context) as service:
        if remove:
            service.drop_second_factor()
            say("A sign-in takes the password only.")
        elif code:
            service.confirm_second_factor(code)
            say("From now on a sign-in takes a code as well.")
        else:
            typer.echo(service.begin_second_factor())
            say("Give this to your authenticator. Then confirm: [bold]doorstone me second-factor --code CODE[/]")


@me_app.command("password")
@speaks
def password(
    context: typer.Context,
    old: Annotated[str, typer.Option(help="The one so far. Asked for if left out.", show_default=False)] = "",
    new: Annotated[str, typer.Option(help="10 or more letters. Asked for if left out.", show_default=False)] = "",
) -> None:
    """Set another password. Every session of yours ends."""
    with client(context) as service:
        service.set_my_password(old or asked_for("Old password"), new or asked_for("New password", twice=True))
    say("Set. Sign in again with the new one.")


def _print(form: Form, data: object, hooks: list[HookShape]) -> None:
    rows = [[h.id, h.url, h.kinds or "all", "told" if h.active else "removed", f"{h.by}, {h.at.date()}"] for h in hooks]
    show(form, data, ["hook", "address", "events", "sends", "by"], rows)


@hook_app.command("add")
@speaks
def add_hook(
    context: typer.Context,
    url: Annotated[str, typer.Argument(help="Where to post events to.")],
    event: Annotated[list[str] | None, typer.Option(help="Kind of events, such as exception; all if left out.")] = None,
    form: FormOption = Form.TABLE,
) -> None:
    """Have an address told of events. The secret that signs them is printed once."""
    with client(context) as service:
        found = service.add_hook(HookAsked(url=url, kinds=event or []))
    _print(form, found, [found])
    if form is Form.TABLE:
        typer.echo(found.secret)
        say(f"This secret is not shown again. Try it: [bold]doorstone hook try {found.id}[/]")


@hook_app.command("list")
@speaks
def list_hooks(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """List the addresses that are told."""
    with client(context) as service:
        found = service.hooks()
    _print(form, found, found)


@hook_app.command("try")
@speaks
def try_hook(context: typer.Context, hook: HookArgument) -> None:
    """Send an event at the next round, to see whether it arrives."""
    with client(context) as service:
        service.try_hook(hook)
    say(f"On its way. Look: [bold]doorstone hook log {hook}[/]")


@hook_app.command("log")
@speaks
def log(context: typer.Context, hook: HookArgument, form: FormOption = Form.TABLE) -> None:
    """List what was sent or is waiting, newest first."""
    with client(context) as service:
        found = service.deliveries(hook)
    rows = [[d.event, d.kind, d.state, d.tries, d.answer] for d in found]
    show(form, found, ["event", "kind", "", "tries", "last answer"], rows)


@hook_app.command("remove")
@speaks
def remove_hook(context: typer.Context, hook: HookArgument, form: FormOption = Form.TABLE) -> None:
    """Tell an address nothing more."""
    with client(context) as service:
        found = service.remove_hook(hook)
    _print(form, found, [found])
