"""Kits: which overrides would do, make, list, show, download."""

from __future__ import annotations

import io
import zipfile
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from doorstone.cli.connection import client
from doorstone.cli.devices import DeviceArgument, ReleaseOption
from doorstone.cli.output import BAD_INPUT, Form, FormOption, fail, out, say, show, speaks
from doorstone.formats.wire import KitAsked, KitShape, OverrideSetShape

app = typer.Typer(no_args_is_help=True, help="Choose overrides, make a kit for exactly what is excepted.")
KitArgument = Annotated[str, typer.Argument(metavar="KIT", help="Kit id, such as KT-0001.")]


class RouteChoice(StrEnum):
    IN_PLACE = "in-place"
    CLEAN = "clean"


class CarryOver(StrEnum):
    EVERYTHING = "everything"
    FILES = "files"
    NOTHING = "nothing"


RouteOption = Annotated[RouteChoice, typer.Option(help="How the device gets the release.")]


@app.command()
@speaks
def choose(
    context: typer.Context,
    device: DeviceArgument,
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    form: FormOption = Form.TABLE,
) -> None:
    """Show which overrides would cover every check of a device, and why not the others."""
    with client(context) as service:
        answer = service.overrides(device, release, route.value)
    rows: list[list[object]] = []
    if answer.best:
        rows.append(["chosen", _ids(answer.best), answer.best.covers, _excess(answer.best)])
    rows += [["alternative", _ids(other), other.covers, _excess(other)] for other in answer.alternatives]
    tried = {name for other in answer.alternatives for name in _ids(other)} if form is Form.TABLE else set()
    reasons: dict[str, list[str]] = {}
    for left in answer.left_out:
        if left.id not in tried:
            reasons.setdefault(left.why, []).append(left.id)
    rows += [["left out", names, "", why] for why, names in reasons.items()]
    show(form, answer, ["", "overrides", "covers", "why"], rows, f"{device} to {answer.release}, {answer.route}")
    if not answer.best and answer.checks:
        say(f"Nothing covers {', '.join(answer.uncovered)}. Look at the other route, or fix it.")


def _ids(found: OverrideSetShape) -> list[str]:
    return [o.id for o in found.overrides]


def _excess(found: OverrideSetShape) -> str:
    return f"also switches off {', '.join(found.excess)}" if found.excess else "exact"


def _print(form: Form, data: object, kits: list[KitShape]) -> None:
    rows = [[k.id, k.device, k.release, k.route, k.overrides, k.exceptions, k.made_by] for k in kits]
    show(form, data, ["kit", "device", "release", "route", "overrides", "exceptions", "made by"], rows)


@app.command()
@speaks
def make(
    context: typer.Context,
    device: DeviceArgument,
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    carry_over: Annotated[CarryOver | None, typer.Option(help="What set-up keeps.")] = None,
    form: FormOption = Form.TABLE,
) -> None:
    """Make the kit for a device: settings, undo, verification, runbook, manifest."""
    kept = carry_over or (CarryOver.NOTHING if route is RouteChoice.CLEAN else CarryOver.EVERYTHING)
    asked = KitAsked(device=device, release=release, route=route.value, carry_over=kept.value)
    with client(context) as service:
        found = service.make_kit(asked)
    _print(form, found.kit, [found.kit])
    say(f"Next: [bold]doorstone kit download[/] {found.kit.id}")


@app.command("list")
@speaks
def list_kits(
    context: typer.Context,
    device: Annotated[str, typer.Option(help="Only kits for this device.")] = "",
    form: FormOption = Form.TABLE,
) -> None:
    """List kits, newest first."""
    with client(context) as service:
        found = service.kits(device)
    _print(form, found, found)


@app.command("show")
@speaks
def show_kit(
    context: typer.Context,
    name: KitArgument,
    file: Annotated[str, typer.Option(help="Print this file of the kit.")] = "runbook.md",
    form: FormOption = Form.TABLE,
) -> None:
    """Print a file of a kit, the runbook unless another is named."""
    with client(context) as service:
        found = service.kit(name)
    if form is Form.JSON:
        show(form, found, [], [])
        return
    text = next((f.text for f in found.files if f.path == file), None)
    if text is None:
        fail(BAD_INPUT, f"{name} has no file {file!r}", f"It has {', '.join(f.path for f in found.files)}")
    out().print(text, markup=False, soft_wrap=True, end="")


@app.command()
@speaks
def download(
    context: typer.Context,
    name: KitArgument,
    into: Annotated[Path, typer.Option("--into", "-o", help="Folder to put the kit's folder in.")] = Path(),
    as_zip: Annotated[bool, typer.Option("--zip", help="Keep it as a zip.")] = False,
) -> None:
    """Download a kit as a folder, ready to be applied."""
    with client(context) as service:
        data = service.download_kit(name)
    into.mkdir(parents=True, exist_ok=True)
    if as_zip:
        (into / f"{name}.zip").write_bytes(data)
        say(f"Written: {into / f'{name}.zip'}")
        return
    folder = into / name
    if folder.exists():
        fail(BAD_INPUT, f"{folder} is there already", "Remove it, or choose another folder with --into")
    with zipfile.ZipFile(io.BytesIO(data)) as bundle:
        for entry in bundle.infolist():
            path = into / entry.filename
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(bundle.read(entry))
            path.chmod(entry.external_attr >> 16)
    say(f"Written: {folder}. On the device: [bold]sh {folder}/apply[/], then [bold]sh {folder}/verify[/]")
