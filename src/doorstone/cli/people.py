"""People and tokens."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from doorstone.cli.connection import Connection, client, save_token
from doorstone.cli.output import BAD_INPUT, Form, FormOption, fail, say, show, speaks
from doorstone.client import Client
from doorstone.formats.wire import PersonAsked, TokenAsked, TokenShape

PASSWORD = "DOORSTONE_PASSWORD"
person_app = typer.Typer(no_args_is_help=True, help="Who may sign in, and in which role.")
token_app = typer.Typer(no_args_is_help=True, help="Bearer tokens for programs and this command line.")
DataOption = Annotated[
    Path | None, typer.Option("--data", help="Work on this data folder directly, with no service: the first person.")
]
PasswordOption = Annotated[
    str,
    typer.Option(
        prompt=True,
        confirmation_prompt=True,
        hide_input=True,
        envvar=PASSWORD,
        help="Asked for if left out.",
    ),
]


@speaks
def sign_in(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Name to sign in with.")],
    password: Annotated[
        str, typer.Option(prompt=True, hide_input=True, envvar=PASSWORD, help="Asked for if left out.")
    ],
    days: Annotated[int, typer.Option(min=1, max=730, help="How long the token runs.")] = 30,
    print_only: Annotated[bool, typer.Option("--print", help="Print the token instead of keeping it.")] = False,
) -> None:
    """Sign in: a token of your role is issued and kept for the commands that follow."""
    connection = context.find_object(Connection)
    assert connection is not None
    with Client(connection.server) as service:
        me = service.sign_in(name, password)
        token = service.issue_token(TokenAsked(name=f"command line of {name}", role=me.role, days=days))
    assert token.secret is not None
    if print_only:
        typer.echo(token.secret)
        return
    path = save_token(connection.server, token.secret)
    say(f"Signed in to {connection.server} as {me.display}, {me.role}, through {token.expires_on}; kept in {path}")


@person_app.command("add")
@speaks
def add_person(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="Name to sign in with.")],
    role: Annotated[str, typer.Option(help="viewer, technician, approver or administrator.")],
    password: PasswordOption,
    display: Annotated[str, typer.Option(help="Full name.")] = "",
    data: DataOption = None,
    form: FormOption = Form.TABLE,
) -> None:
    """Add a person. With --data it needs no service: so the first administrator is made."""
    if data is None:
        with client(context) as service:
            asked = PersonAsked.model_validate({"name": name, "display": display, "role": role, "password": password})
            found = service.add_person(asked)
        show(form, found, ["name", "display", "role"], [[found.name, found.display, found.role]])
        return
    from doorstone.service.config import Config, open_desk
    from doorstone.work import people
    from doorstone.work.desk import Actor
    from doorstone.work.errors import WorkError

    try:
        desk = open_desk(Config(data=data))
        person = people.add_person(desk, Actor("local", "administrator", "local"), name, display, role, password)
    except WorkError as error:
        fail(BAD_INPUT, error.detail, error.mend)
    say(f"Added {person.name}, {person.role}. Next: [bold]doorstone serve --data {data}[/] and sign in")


@person_app.command("list")
@speaks
def list_people(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """List people."""
    with client(context) as service:
        found = service.people()
    show(form, found, ["name", "display", "role"], [[p.name, p.display, p.role] for p in found])


def _print(form: Form, data: object, tokens: list[TokenShape]) -> None:
    rows = [[t.id, t.name, t.person, t.role, t.expires_on, t.revoked_at] for t in tokens]
    show(form, data, ["token", "name", "person", "role", "through", "revoked"], rows)


@token_app.command("issue")
@speaks
def issue_token(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="What it is for.")],
    role: Annotated[str, typer.Option(help="Your role or a lesser one.")],
    days: Annotated[int, typer.Option(min=1, max=730, help="How long it runs.")] = 90,
    form: FormOption = Form.TABLE,
) -> None:
    """Issue a token. Its secret is printed once."""
    asked = TokenAsked.model_validate({"name": name, "role": role, "days": days})
    with client(context) as service:
        found = service.issue_token(asked)
    _print(form, found, [found])
    if form is Form.TABLE:
        typer.echo(found.secret)
        say("This secret is not shown again. Use it as DOORSTONE_TOKEN.")


@token_app.command("list")
@speaks
def list_tokens(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """List tokens."""
    with client(context) as service:
        found = service.tokens()
    _print(form, found, found)


@token_app.command("revoke")
@speaks
def revoke_token(
    context: typer.Context,
    token: Annotated[str, typer.Argument(help="Token id, such as TK-0001.")],
    form: FormOption = Form.TABLE,
) -> None:
    """Revoke a token at once."""
    with client(context) as service:
        found = service.revoke_token(token)
    _print(form, found, [found])
