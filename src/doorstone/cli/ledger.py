"""The ledger: read and check."""

from __future__ import annotations

import sys
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Annotated

import typer

from doorstone.api.ledger import LedgerCheckResponse
from doorstone.cli.bundle_files import bundle_files
from doorstone.cli.connection import client
from doorstone.cli.output import BAD_INPUT, FAILED, FormOption, OutputFormat, fail, reports_errors, say, show

KINDS = {
    "EX": "exception", "KT": "kit", "AT": "attempt", "OB": "observation", "SD": "decision", "IM": "import",
    "ST": "settlement", "TK": "token", "HK": "webhook", "LF": "life", "FX": "fix", "MD": "media", "FU": "followup",
}  # fmt: skip
app = typer.Typer(no_args_is_help=True)
evidence_app = typer.Typer(no_args_is_help=True)


@app.command("list")
@reports_errors
def list_entries(
    context: typer.Context,
    kind: Annotated[str, typer.Option(help="Only of this kind: exception, kit, attempt, ...")] = "",
    obj: Annotated[str, typer.Option("--object", help="Only of this object, such as EX-0001.")] = "",
    most: Annotated[int, typer.Option(min=1, help="At most so many.")] = 30,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List entries, newest first."""
    with client(context) as service:
        found = list(islice(service.ledger(kind, obj), most))
    rows = [[e.seq, e.at, e.actor, e.via, e.action, e.object, e.hash[:12]] for e in found]
    show(form, found, ["entry", "at", "by", "through", "what", "object", "hash"], rows)


@app.command()
@reports_errors
def story(
    context: typer.Context,
    obj: Annotated[str, typer.Argument(metavar="OBJECT", help="Such as EX-0001, KT-0002, a device or a person.")],
    kind: Annotated[str, typer.Option(help="Its kind, if the id does not say: device, person, sheet.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show the history of one object in sentences, oldest first."""
    known = KINDS.get(obj.partition("-")[0], "device")
    with client(context) as service:
        found = service.story(kind or known, obj)
    rows = [[line.seq, line.at.strftime("%Y-%m-%d %H:%M"), line.words] for line in found]
    show(form, found, ["entry", "at", "what happened"], rows)
    if not found:
        say(f"The ledger knows nothing of {obj} as a {kind or known}.")


@app.command()
@reports_errors
def export(
    context: typer.Context,
    into: Annotated[Path | None, typer.Option("--into", "-o", dir_okay=False, help="File to write.")] = None,
) -> None:
    """Export the whole ledger, an entry a line, oldest first. Keep it elsewhere to compare with."""
    with client(context) as service:
        if into is None:
            for piece in service.export_ledger():
                sys.stdout.write(piece.decode())
            return
        with into.open("wb") as file:
            for piece in service.export_ledger():
                file.write(piece)
    say(f"Written to {into}. Check it: [bold]doorstone ledger verify --file {into}[/]")


@app.command()
@reports_errors
def verify(
    context: typer.Context,
    file: Annotated[
        Path | None, typer.Option(exists=True, dir_okay=False, help="Check an export instead, with no service.")
    ] = None,
    data: Annotated[
        Path | None, typer.Option(exists=True, file_okay=False, help="Check a data folder, with no service.")
    ] = None,
    kept: Annotated[str, typer.Option(help="A head that was noted elsewhere, as number:hash.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Check the whole chain; exit 1 if any entry was altered, removed or moved, and say which."""
    if file is not None or data is not None:
        found = _check_here(file, data, kept)
    else:
        with client(context) as service:
            found = service.check_ledger(kept)
    show(form, found, ["entries", "holds", "faults"], [[found.entries, found.ok, found.faults]])
    if not found.ok:
        fail(FAILED, "The ledger does not hold", "Compare it with a backup")
    say("Every entry follows from the one before it." + (f" Head: {found.head}" if found.head else ""))


def _check_here(file: Path | None, data: Path | None, kept: str) -> LedgerCheckResponse:
    from doorstone.service.serve import DamagedError
    from doorstone.work.context.errors import WorkError
    from doorstone.work.ledger import entries as ledger

    try:
        if file is not None:
            with file.open(encoding="utf-8") as lines:
                return LedgerCheckResponse.model_validate(ledger.check_export(lines))
        from doorstone.service.config import Config, open_context

        assert data is not None
        return LedgerCheckResponse.model_validate(
            ledger.check_ledger(open_context(Config(data=data), existing=True), kept)
        )
    except DamagedError as error:
        return LedgerCheckResponse(entries=0, ok=False, faults=[str(error)], head="")
    except (WorkError, UnicodeDecodeError) as error:
        fail(BAD_INPUT, str(error), "Export it again")


# -------------------------------------------------------------- evidence packs


@evidence_app.command("make")
@reports_errors
def make_evidence(
    context: typer.Context,
    devices: Annotated[list[str] | None, typer.Argument(metavar="DEVICE", help="Device ids.")] = None,
    selection: Annotated[str, typer.Option(help="The devices of a saved selection.")] = "",
    site: Annotated[list[str] | None, typer.Option(help="Every device at this site. Repeat it for more.")] = None,
    everything: Annotated[bool, typer.Option("--all", help="Every device of the organisation.")] = False,
    exception: Annotated[str, typer.Option(help="One exception, with its devices.")] = "",
    start: Annotated[
        datetime | None, typer.Option("--from", formats=["%Y-%m-%d"], help="First day; from the start if left out.")
    ] = None,
    end: Annotated[
        datetime | None, typer.Option("--through", formats=["%Y-%m-%d"], help="Last day; today if left out.")
    ] = None,
    into: Annotated[Path, typer.Option("--into", "-o", dir_okay=False, help="File to write.")] = Path("evidence.zip"),
) -> None:
    """Write an evidence pack: everything about devices and a period, in one signed archive."""
    with client(context) as service:
        data = service.evidence(
            devices=devices or [], selection=selection, sites=site or [], exception=exception,
            start=start.date() if start else None, end=end.date() if end else None, everything=everything,
        )  # fmt: skip
    into.write_bytes(data)
    say(f"Written to {into}. Check it: [bold]doorstone evidence check {into} --key doorstone-kits.pem[/]")
    say("The key: [bold]doorstone kit key --into doorstone-kits.pem[/]")


@evidence_app.command("check")
@reports_errors
def check_evidence(
    path: Annotated[Path, typer.Argument(exists=True, help="An evidence pack: its zip, or the folder.")],
    key_file: Annotated[
        Path | None, typer.Option("--key", exists=True, dir_okay=False, help="The public key of the service.")
    ] = None,
    kept: Annotated[str, typer.Option(help="A head of the ledger that was noted elsewhere, as number:hash.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Check an evidence pack with no service: complete, unchanged, signed, its ledger a chain. Exit 1 if not."""
    from doorstone.core.ledger.evidence import pack_faults
    from doorstone.formats.signature import fits

    public = key_file.read_bytes() if key_file else None
    signed = (lambda manifest, signature: fits(public, manifest, signature)) if public else None
    try:
        files, strange = bundle_files(path, "evidence pack")
        faults = [*strange, *pack_faults(files, signed, kept)]
    except ValueError as error:
        fail(BAD_INPUT, f"{key_file}: {error}", "Fetch the key with 'doorstone kit key'")
    if faults or form is not OutputFormat.TABLE:
        show(form, {"pack": str(path), "ok": not faults, "faults": faults}, ["fault"], [[fault] for fault in faults])
    if faults:
        fail(FAILED, f"{path} is not what was made", "Ask for it again, and compare")
    say(
        f"All {len(files)} files are as they were made."
        + ("" if public else " Its signature was not asked: give --key.")
    )
