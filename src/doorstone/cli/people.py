"""People and tokens."""

from __future__ import annotations

from contextlib import nullcontext
from datetime import datetime
from pathlib import Path
from typing import Annotated

import typer

from doorstone.api.people import (
    DeputyRequest,
    DeputyResponse,
    PersonChangeRequest,
    PersonRequest,
    PersonResponse,
    TokenRequest,
    TokenResponse,
)
from doorstone.cli.connection import client, connection_of, save_token
from doorstone.cli.dry_run import DRY_RUN
from doorstone.cli.output import (
    BAD_INPUT,
    MISSING,
    USAGE,
    FormOption,
    OutputFormat,
    asked_for,
    fail,
    reports_errors,
    say,
    show,
)
from doorstone.client import Client

PASSWORD = "DOORSTONE_PASSWORD"
person_app = typer.Typer(no_args_is_help=True)
token_app = typer.Typer(no_args_is_help=True)
DataOption = Annotated[
    Path | None, typer.Option("--data", help="Work on this data folder directly, with no service: the first person.")
]
PasswordOption = Annotated[str, typer.Option(envvar=PASSWORD, help="Prompted for if left out.", show_default=False)]


@reports_errors
def sign_in(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Name to sign in with.")],
    password: PasswordOption = "",
    days: Annotated[int, typer.Option(min=1, max=730, help="How long the token is valid.")] = 30,
    code: Annotated[str, typer.Option(help="Code of your authenticator, if you have a second factor.")] = "",
    print_only: Annotated[bool, typer.Option("--print", help="Print the token instead of keeping it.")] = False,
) -> None:
    """Sign in: a token of your role is issued and kept for the commands that follow."""
    connection = connection_of(context)
    with Client(connection.server) as service:
        me = service.sign_in(name, password or asked_for("Password"), code)
        token = service.issue_token(TokenRequest(name=f"command line of {name}", role=me.role, days=days, session=True))
    assert token.secret is not None
    if print_only:
        typer.echo(token.secret)
        return
    path = save_token(connection.server, token.secret)
    say(f"Signed in to {connection.server} as {me.display}, {me.role}, through {token.expires_on}; kept in {path}")


@person_app.command("add")
@reports_errors
def add_person(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Name to sign in with.")],
    role: Annotated[str, typer.Option(help="viewer, technician, approver or administrator.")],
    password: PasswordOption = "",
    display: Annotated[str, typer.Option(help="Full name.")] = "",
    data: DataOption = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Add a person. With --data, add the first administrator without a service."""
    password = password or asked_for("Password", twice=True)
    if data is None:
        with client(context) as service:
            request = PersonRequest.model_validate(
                {"name": name, "display": display, "role": role, "password": password}
            )
            found = service.add_person(request)
        show(form, found, ["name", "display", "role"], [[found.name, found.display, found.role]])
        return
    from doorstone.service.config import Config, open_context
    from doorstone.work.context.actor import Actor
    from doorstone.work.context.errors import WorkError
    from doorstone.work.people import people

    try:
        records = open_context(Config(data=data))
        if role != "administrator":
            fail(BAD_INPUT, "The first person is an administrator", "Give --role administrator")
        local = Actor("local", "administrator", "local")
        with records.database.undone() if DRY_RUN.get() else nullcontext():
            person = people.add_person(records, local, name, display, role, password, first=True)
    except WorkError as error:
        fail(BAD_INPUT, error.detail, error.hint)
    say(f"Added {person.name}, {person.role}. Next: [bold]doorstone serve --data {data}[/] and sign in")


def _print_people(form: OutputFormat, data: object, found: list[PersonResponse]) -> None:
    rows = [
        [
            p.name,
            p.display,
            p.role + ("" if p.active else " (may not sign in)"),
            [f"{site}: {role}" for site, role in p.sites.items()],
            p.owns,
        ]
        for p in found
    ]
    show(form, data, ["name", "display", "role", "greater at", "answers for"], rows)


@person_app.command("list")
@reports_errors
def list_people(
    context: typer.Context,
    gone: Annotated[bool, typer.Option("--gone", help="Include disabled accounts.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List people, their roles, and the exceptions that they answer for."""
    with client(context) as service:
        found = service.people(gone=gone)
    _print_people(form, found, found)


@person_app.command("change")
@reports_errors
def change_person(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Name to sign in with.")],
    role: Annotated[str | None, typer.Option(help="viewer, technician, approver or administrator.")] = None,
    at: Annotated[
        list[str] | None, typer.Option("--at", help="SITE=ROLE, a greater role at one site; repeat for all sites.")
    ] = None,
    nowhere: Annotated[bool, typer.Option("--no-sites", help="Remove the greater roles at all sites.")] = False,
    display: Annotated[str | None, typer.Option(help="Full name.")] = None,
    email: Annotated[str | None, typer.Option(help="Mail address.")] = None,
    leave: Annotated[bool, typer.Option("--leave", help="Disable the account; its tokens end.")] = False,
    come_back: Annotated[bool, typer.Option("--come-back", help="Enable the account again.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Change a person's role, everywhere or at sites, or whether they may sign in."""
    sites: dict[str, str] | None = {} if nowhere else None
    for word in at or ():
        site, equals, there = word.partition("=")
        if not equals:
            fail(USAGE, f"--at {word!r} names no role", "Write SITE=ROLE")
        sites = {**(sites or {}), site: there}
    active = False if leave else True if come_back else None
    given = {"role": role, "sites": sites, "display": display, "email": email, "active": active}
    with client(context) as service:
        version = next((p.version for p in service.people(gone=True) if p.name == name), 0)
        if not version:
            fail(MISSING, f"There is no person {name!r}", "See who there is with 'doorstone person list --gone'")
        found = service.change_person(name, version, PersonChangeRequest.model_validate(given))
    _print_people(form, found, [found])
    if not found.active and found.owns:
        say(f"{name} answers for {', '.join(found.owns)}: [bold]doorstone exception transfer[/] each")


@person_app.command("deputies")
@reports_errors
def list_deputies(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List deputies, past ones included."""
    with client(context) as service:
        found = service.deputies()
    _print_deputies(form, found)


def _print_deputies(form: OutputFormat, found: list[DeputyResponse]) -> None:
    rows = [
        [d.id, d.person, d.deputy, d.start_on, d.end_on, "ended" if d.ended_at else "in force" if d.in_force else "",
         d.reason]
        for d in found
    ]  # fmt: skip
    show(form, found, ["deputy", "of", "is", "from", "through", "today", "reason"], rows)


@person_app.command("name-deputy")
@reports_errors
def name_deputy(
    context: typer.Context,
    deputy: Annotated[str, typer.Argument(help="Who acts in the place.")],
    start: Annotated[datetime, typer.Option("--from", formats=["%Y-%m-%d"], help="First day.")],
    end: Annotated[datetime, typer.Option("--through", formats=["%Y-%m-%d"], help="Last day.")],
    reason: Annotated[str, typer.Option(help="Why, in a sentence; it stands in the ledger.")],
    of: Annotated[str, typer.Option(help="Who is away; you, if left out.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Name a deputy who decides for you for some days. The ledger marks a deputy's decisions."""
    request = DeputyRequest(person=of, deputy=deputy, start_on=start.date(), end_on=end.date(), reason=reason)
    with client(context) as service:
        found = service.name_deputy(request)
    _print_deputies(form, [found])
    say(f"{found.deputy} acts with: [bold]doorstone --for {found.person}[/] COMMAND")


@person_app.command("end-deputy")
@reports_errors
def end_deputy(
    context: typer.Context,
    name: Annotated[str, typer.Argument(metavar="DEPUTY", help="Its id, such as DP-0001.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """End a deputy's term early."""
    with client(context) as service:
        _print_deputies(form, [service.end_deputy(name)])


@person_app.command("password")
@reports_errors
def set_password(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Whose.")],
    password: PasswordOption = "",
    data: Annotated[
        Path | None, typer.Option("--data", help="Work on this data folder directly: when nobody can sign in.")
    ] = None,
) -> None:
    """Set a person's password. All their sessions end."""
    password = password or asked_for("Password", twice=True)
    if data is None:
        with client(context) as service:
            service.set_password(name, password)
    else:
        from doorstone.service.config import Config, open_context
        from doorstone.work.context.actor import Actor
        from doorstone.work.context.errors import WorkError
        from doorstone.work.people import people

        try:
            local = Actor("local", "administrator", "local")
            people.set_password(open_context(Config(data=data)), local, name, None, password)
        except WorkError as error:
            fail(BAD_INPUT, error.detail, error.hint)
    say(f"Set. {name} signs in with it from now on.")


def _print(form: OutputFormat, data: object, tokens: list[TokenResponse]) -> None:
    rows = [
        [
            t.id,
            t.name,
            t.person,
            t.role + (f" of {t.device}" if t.device else ""),
            t.expires_on,
            t.last_used_at.date() if t.last_used_at else "never",
            t.revoked_at.date() if t.revoked_at else "",
        ]
        for t in tokens
    ]
    show(form, data, ["token", "name", "person", "role", "through", "last used", "revoked"], rows)


@person_app.command("bind")
@reports_errors
def bind_person(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Who.")],
    subject: Annotated[str, typer.Argument(help="The provider's claim 'sub' of this person.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Link a person to their subject at the identity provider."""
    with client(context) as service:
        found = service.bind_person(name, subject)
    show(form, found, ["name", "display", "role"], [[found.name, found.display, found.role]])


@person_app.command("drop-second-factor")
@reports_errors
def drop_second_factor(context: typer.Context, name: Annotated[str, typer.Argument(help="Who.")]) -> None:
    """Remove the second factor of a person who has lost it."""
    with client(context) as service:
        service.drop_second_factor(name)
    say(f"{name} signs in with the password only.")


@person_app.command("sign-ins")
@reports_errors
def sign_ins(
    context: typer.Context,
    limit: Annotated[int, typer.Option(min=1, max=500, help="How many at most.")] = 50,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List who signed in or failed to, newest first. For administrators."""
    with client(context) as service:
        found = service.sign_ins(limit)
    rows = [[f"{one.at:%Y-%m-%d %H:%M}", one.name, one.address, one.way, one.outcome] for one in found]
    show(form, found, ["at", "name", "from", "way", "outcome"], rows)


@token_app.command("issue")
@reports_errors
def issue_token(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="What it is for.")],
    role: Annotated[str, typer.Option(help="Your role or a lesser one; reporter may only post readings.")],
    device: Annotated[str, typer.Option(help="For a reporter: the only device it may speak of.")] = "",
    days: Annotated[int, typer.Option(min=1, max=730, help="How long it runs.")] = 90,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Issue a token. Its secret is printed once."""
    request = TokenRequest.model_validate({"name": name, "role": role, "days": days, "device": device})
    with client(context) as service:
        found = service.issue_token(request)
    _print(form, found, [found])
    if form is OutputFormat.TABLE:
        typer.echo(found.secret)
        say("This secret is not shown again. Use it as DOORSTONE_TOKEN.")


@token_app.command("list")
@reports_errors
def list_tokens(context: typer.Context, form: FormOption = OutputFormat.TABLE) -> None:
    """List tokens."""
    with client(context) as service:
        found = service.tokens()
    _print(form, found, found)


@token_app.command("revoke")
@reports_errors
def revoke_token(
    context: typer.Context,
    token: Annotated[str, typer.Argument(help="Token id, such as TK-0001.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Revoke a token at once."""
    with client(context) as service:
        found = service.revoke_token(token)
    _print(form, found, [found])
