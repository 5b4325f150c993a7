"""The ledger: read and check."""

from __future__ import annotations

from itertools import islice
from typing import Annotated

import typer

from doorstone.cli.connection import client
from doorstone.cli.output import FAILED, Form, FormOption, fail, say, show, speaks

app = typer.Typer(no_args_is_help=True, help="Read and check the record of every decision.")


@app.command("list")
@speaks
def list_entries(
    context: typer.Context,
    kind: Annotated[str, typer.Option(help="Only of this kind: exception, kit, attempt, ...")] = "",
    obj: Annotated[str, typer.Option("--object", help="Only of this object, such as EX-0001.")] = "",
    most: Annotated[int, typer.Option(min=1, help="At most so many.")] = 30,
    form: FormOption = Form.TABLE,
) -> None:
    """List entries, newest first."""
    with client(context) as service:
        found = list(islice(service.ledger(kind, obj), most))
    rows = [[e.seq, e.at, e.actor, e.via, e.action, e.object, e.hash[:12]] for e in found]
    show(form, found, ["entry", "at", "by", "through", "what", "object", "hash"], rows)


@app.command()
@speaks
def verify(context: typer.Context, form: FormOption = Form.TABLE) -> None:
    """Check the whole chain; exit 1 if any entry was altered, removed or moved."""
    with client(context) as service:
        found = service.check_ledger()
    show(form, found, ["entries", "holds", "faults"], [[found.entries, found.ok, found.faults]])
    if not found.ok:
        fail(FAILED, "The ledger does not hold", "Compare it with a backup")
    say("Every entry follows from the one before it.")
