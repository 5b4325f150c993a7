"""Kits: which overrides would do, make, list, show, download."""

from __future__ import annotations

import io
import zipfile
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from doorstone.api.kits import KitBatchRequest, KitBatchResponse, KitRequest, KitResponse, OverrideSetResponse
from doorstone.cli.bundle_files import bundle_files
from doorstone.cli.connection import client
from doorstone.cli.devices import DeviceArgument
from doorstone.cli.filters import ReleaseOption, SelectionOption
from doorstone.cli.output import (
    BAD_INPUT,
    FAILED,
    USAGE,
    FormOption,
    OutputFormat,
    fail,
    out,
    reports_errors,
    say,
    show,
)

app = typer.Typer(no_args_is_help=True)
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
@reports_errors
def choose(
    context: typer.Context,
    device: DeviceArgument,
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show which overrides would cover every check of a device, and why not the others."""
    with client(context) as service:
        answer = service.overrides(device, release, route.value)
    rows: list[list[object]] = []
    if answer.best:
        rows.append(["chosen", _ids(answer.best), answer.best.covers, _excess(answer.best)])
    rows += [["alternative", _ids(other), other.covers, _excess(other)] for other in answer.alternatives]
    tried = {name for other in answer.alternatives for name in _ids(other)} if form is OutputFormat.TABLE else set()
    reasons: dict[str, list[str]] = {}
    for left in answer.left_out:
        if left.id not in tried:
            reasons.setdefault(left.why, []).append(left.id)
    rows += [["left out", names, "", why] for why, names in reasons.items()]
    show(form, answer, ["part", "overrides", "covers", "why"], rows, f"{device} to {answer.release}, {answer.route}")
    if not answer.best and answer.checks:
        say(f"Nothing covers {', '.join(answer.uncovered)}. Look at the other route, or fix it.")


def _ids(found: OverrideSetResponse) -> list[str]:
    return [o.id for o in found.overrides]


def _excess(found: OverrideSetResponse) -> str:
    words = f"also switches off {', '.join(found.excess)}" if found.excess else "exact"
    return "; ".join([words, *found.warnings])


def _print(form: OutputFormat, data: object, kits: list[KitResponse]) -> None:
    rows = [
        [
            k.id,
            k.devices if len(k.devices) <= 3 else f"{len(k.devices)} devices",
            f"{k.release}, {k.route}",
            k.overrides,
            k.exceptions,
            k.expires_on,
            k.reasons or "stands",
        ]
        for k in kits
    ]
    show(form, data, ["kit", "devices", "release", "overrides", "exceptions", "through", "today"], rows)


def _waived(words: list[str] | None) -> dict[str, str]:
    found = {}
    for word in words or ():
        gate, equals, why = word.partition("=")
        if not equals:
            fail(USAGE, f"--waive {word!r} gives no reason", "Write GATE=REASON")
        found[gate] = why
    return found


DevicesArgument = Annotated[list[str] | None, typer.Argument(metavar="DEVICE", help="Device ids.")]
WaiveOption = Annotated[
    list[str] | None, typer.Option("--waive", help="GATE=REASON, where a warning does not matter; repeat for more.")
]


MediaOption = Annotated[str, typer.Option(help="The media to use; the one that fits best if left out.")]


@app.command()
@reports_errors
def gates(
    context: typer.Context,
    device: DeviceArgument,
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    carry_over: Annotated[CarryOver | None, typer.Option(help="What set-up keeps.")] = None,
    media: MediaOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show what must hold before a kit may be used, measured today."""
    kept = carry_over.value if carry_over else ""
    with client(context) as service:
        found = service.gates(device, route.value, release=release, carry_over=kept, media=media)
    rows = [[g.id, g.result, g.measured, g.asks, "" if g.result == "holds" else g.todo] for g in found]
    show(form, found, ["gate", "today", "measured", "asks", "to do"], rows)


@app.command()
@reports_errors
def routes(
    context: typer.Context, device: DeviceArgument, release: ReleaseOption = "", form: FormOption = OutputFormat.TABLE
) -> None:
    """Show the routes of a device side by side: overrides, gates, what is kept."""
    with client(context) as service:
        found = service.routes(device, release)
    rows = [
        [
            r.route,
            "none needed" if r.chosen == [] else r.chosen or f"nothing covers {', '.join(r.uncovered)}",
            r.excess,
            r.stops,
            r.warns,
            " or ".join(r.keeps),
        ]
        for r in found
    ]
    show(form, found, ["route", "overrides", "beyond what is needed", "stopped by", "warned of", "keeps"], rows)


@app.command()
@reports_errors
def cases(
    context: typer.Context,
    device: DevicesArgument = None,
    selection: SelectionOption = "",
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show which kits devices need, one for each distinct set of needs, and why some can have none yet."""
    carry = CarryOver.NOTHING if route is RouteChoice.CLEAN else CarryOver.EVERYTHING
    with client(context) as service:
        request = KitBatchRequest(
            devices=device or [], selection=selection, release=release, route=route.value, carry_over=carry.value
        )
        found = service.kit_cases(request)
    rows: list[list[object]] = [[c.devices, c.overrides or "none needed", c.media, ""] for c in found.cases]
    rows += [[t.pointer, t.detail, "", t.hint] for t in found.refused]
    show(form, found, ["devices", "overrides, or what stands in the way", "media", "hint"], rows)


@app.command()
@reports_errors
def make(
    context: typer.Context,
    device: DevicesArgument = None,
    selection: SelectionOption = "",
    each: Annotated[bool, typer.Option("--each", help="Make one kit for each distinct set of needs.")] = False,
    release: ReleaseOption = "",
    route: RouteOption = RouteChoice.IN_PLACE,
    carry_over: Annotated[CarryOver | None, typer.Option(help="What set-up keeps.")] = None,
    waive: WaiveOption = None,
    media: MediaOption = "",
    sets: Annotated[
        list[str] | None, typer.Option("--set", help="A settings set for after the upgrade; repeat for more.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Make the kit for devices of one case: settings, undo, verification, runbook, manifest, signature."""
    kept = carry_over or (CarryOver.NOTHING if route is RouteChoice.CLEAN else CarryOver.EVERYTHING)
    request = KitBatchRequest(
        devices=device or [], selection=selection, release=release, route=route.value, carry_over=kept.value,
        waive=_waived(waive), media=media, sets=sets or [],
    )  # fmt: skip
    with client(context) as service:
        if each or selection:
            _print_each(form, service.make_kits(request))
            return
        found = service.make_kit(KitRequest.model_validate(request.model_dump(exclude={"selection"})))
    _print(form, found.kit, [found.kit])
    say(f"Next: [bold]doorstone kit download[/] {found.kit.id}")


def _print_each(form: OutputFormat, found: KitBatchResponse) -> None:
    _print(form, found, found.made)
    if form is not OutputFormat.TABLE:
        return
    if found.refused:
        out().print()
        rows = [[t.pointer, t.detail, t.hint] for t in found.refused]
        show(form, None, ["for", "what stands in the way", "hint"], rows, "No kit for")
    say("Next: [bold]doorstone kit download[/] KIT, each")


@app.command("sets")
@reports_errors
def sets_(context: typer.Context, device: DeviceArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Show the organisation's own settings for after an upgrade, and whether they are in place."""
    with client(context) as service:
        found = service.settings_sets(device)
    rows = [[s.id, s.title, s.in_place, [f"{w.section}/{w.name} = {w.value}" for w in s.settings]] for s in found]
    show(form, found, ["set", "title", "by the facts", "settings"], rows)


@app.command("list")
@reports_errors
def list_kits(
    context: typer.Context,
    device: Annotated[str, typer.Option(help="Only kits for this device.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List kits, newest first."""
    with client(context) as service:
        found = service.kits(device)
    _print(form, found, found)


@app.command("show")
@reports_errors
def show_kit(
    context: typer.Context,
    name: KitArgument,
    file: Annotated[str, typer.Option(help="Print this file of the kit.")] = "runbook.md",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Print a file of a kit, the runbook unless another is named."""
    with client(context) as service:
        found = service.kit(name)
    if form is OutputFormat.JSON:
        show(form, found, [], [])
        return
    text = next((f.text for f in found.files if f.path == file), None)
    if text is None:
        fail(BAD_INPUT, f"{name} has no file {file!r}", f"It has {', '.join(f.path for f in found.files)}")
    out().print(text, markup=False, soft_wrap=True, end="")


@app.command()
@reports_errors
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


@app.command("page")
@reports_errors
def page(
    context: typer.Context,
    name: KitArgument,
    into: Annotated[Path, typer.Option("--into", "-o", dir_okay=False, help="File to write.")] = Path("runbook.html"),
) -> None:
    """Write a kit's runbook as an HTML page to print, with boxes to tick."""
    with client(context) as service:
        into.write_bytes(service.runbook_page(name))
    say(f"Written to {into}")


@app.command("diff")
@reports_errors
def diff(
    context: typer.Context,
    one: KitArgument,
    other: Annotated[str, typer.Argument(metavar="OTHER", help="The kit to compare with.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show what differs between two kits."""
    with client(context) as service:
        found = service.kit_differences(one, other)
    show(form, found, ["what", one, other], [[d.what, d.one, d.other] for d in found])
    if not found:
        say("They differ in nothing but their names.")


@app.command("key")
@reports_errors
def key(
    context: typer.Context,
    into: Annotated[Path | None, typer.Option("--into", "-o", dir_okay=False, help="File to write.")] = None,
) -> None:
    """Fetch the public key that kits are checked against. Keep it where kits are used."""
    with client(context) as service:
        data = service.signing_key()
    if into is None:
        typer.echo(data.decode(), nl=False)
        return
    into.write_bytes(data)
    say(f"Written to {into}. Check a kit: [bold]doorstone kit check FOLDER --key {into}[/]")


@app.command("check")
@reports_errors
def check(
    path: Annotated[Path, typer.Argument(exists=True, help="A kit's folder, or its zip.")],
    key_file: Annotated[
        Path | None, typer.Option("--key", exists=True, dir_okay=False, help="The public key of the service.")
    ] = None,
    as_of: Annotated[
        datetime | None, typer.Option(formats=["%Y-%m-%d"], help="On this day; today if left out.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Check a kit with no service: complete, unchanged, signed, not past its last day. Exit 1 if not."""
    from doorstone.core.kits.check import kit_faults
    from doorstone.formats.signature import fits

    public = key_file.read_bytes() if key_file else None
    signed = (lambda manifest, signature: fits(public, manifest, signature)) if public else None
    try:
        files, strange = bundle_files(path, "kit")
        faults = [*strange, *kit_faults(files, (as_of or datetime.now()).date(), signed)]
    except ValueError as error:
        fail(BAD_INPUT, f"{key_file}: {error}", "Fetch the key with 'doorstone kit key'")
    if faults or form is not OutputFormat.TABLE:
        show(form, {"kit": str(path), "ok": not faults, "faults": faults}, ["fault"], [[fault] for fault in faults])
    if faults:
        fail(FAILED, f"{path} is not to be used", "Download it again, or make a new one")
    say("Every file is as it was made." + ("" if public else " Its signature was not asked: give --key."))
