"""Set-up media: record one with its SHA-256, verify it, plan what a batch needs."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn

from doorstone.api.media import MediaPlanRequest, MediaRequest, MediaResponse
from doorstone.cli.connection import client
from doorstone.cli.filters import (
    ModelOption,
    PlatformOption,
    ReleaseOption,
    RoleOption,
    SelectionOption,
    SiteOption,
    StateOption,
    filter_of,
)
from doorstone.cli.output import FAILED, FormOption, OutputFormat, fail, reports_errors, say, show

app = typer.Typer(no_args_is_help=True)
MediaArgument = Annotated[str, typer.Argument(metavar="MEDIA", help="Its id, such as MD-0001.")]
FileArgument = Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The image file of the media.")]
_PIECE = 1 << 20


def sha256_of(path: Path, quiet: bool = False) -> tuple[str, int]:
    """The SHA-256 of a file and its size in bytes, with a bar on standard error while it is read."""
    size, digest = path.stat().st_size, hashlib.sha256()
    columns = (TextColumn("SHA-256"), BarColumn(), DownloadColumn(), TimeRemainingColumn())
    with Progress(*columns, disable=quiet, transient=True, console=_err()) as bar, path.open("rb") as file:
        task = bar.add_task("SHA-256", total=size)
        while piece := file.read(_PIECE):
            digest.update(piece)
            bar.advance(task, len(piece))
    return digest.hexdigest(), size


def _err() -> Console:

    return Console(stderr=True)


def _print(form: OutputFormat, data: object, items: list[MediaResponse]) -> None:
    rows = [
        [
            m.id,
            f"{m.platform} {m.release}",
            m.editions,
            m.language,
            m.arch,
            f"{m.size / 1e9:.1f} GB",
            f"{m.needs_gb} GB" if m.needs_gb else "none holds it",
            m.sha256[:12],
            m.defects or "sound",
        ]
        for m in items
    ]
    columns = ["media", "release", "editions", "language", "for", "size", "stick", "SHA-256", "today"]
    show(form, data, columns, rows)


@app.command()
@reports_errors
def add(
    context: typer.Context,
    file: FileArgument,
    release: Annotated[str, typer.Option("--release", "-r", help="The release that is on it.")],
    edition: Annotated[list[str], typer.Option(help="An edition on it; repeat for more.")],
    language: Annotated[str, typer.Option(help="Its language, such as en or nl-BE.")],
    platform: PlatformOption = "",
    asked: Annotated[str, typer.Option(help="The release its maker was asked for, if another.")] = "",
    arch: Annotated[str, typer.Option(help="The processor architecture it is for.")] = "x86-64",
    table: Annotated[str, typer.Option(help="Partition table of the stick: gpt or mbr.")] = "gpt",
    published: Annotated[str, typer.Option(help="The published SHA-256, if known.")] = "",
    origin: Annotated[str, typer.Option(help="Where it came from, or where it lies.")] = "",
    maker: Annotated[str, typer.Option(help="The media maker and its version.")] = "",
    link: Annotated[str, typer.Option(help="Where it is fetched from, https.")] = "",
    link_ends: Annotated[
        datetime | None, typer.Option(formats=["%Y-%m-%d"], help="Last day on which the link gives it.")
    ] = None,
    stick_gb: Annotated[int | None, typer.Option(help="Size in GB of the stick it is written on.")] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record a media: its SHA-256 is computed here, and compared with the published one."""
    digest, size = sha256_of(file, form is not OutputFormat.TABLE)
    with client(context) as service:
        given = MediaRequest.model_validate(
            {
                "platform": platform or service.platforms()[0].id,
                "release": release,
                "asked": asked,
                "editions": edition,
                "language": language,
                "arch": arch,
                "partition_table": table,
                "size": size,
                "sha256": digest,
                "published_sha256": published.lower(),
                "origin": origin,
                "maker": maker,
                "link": link,
                "link_ends": link_ends.date() if link_ends else None,
                "stick_gb": stick_gb,
            }
        )
        found = service.add_media(given)
    _print(form, found, [found])
    say("Next: [bold]doorstone media plan[/] DEVICE...")


@app.command("list")
@reports_errors
def list_media(
    context: typer.Context,
    platform: PlatformOption = "",
    withdrawn: Annotated[bool, typer.Option("--withdrawn", help="Include those taken out of use.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List media, newest first, with what is wrong with each."""
    with client(context) as service:
        found = service.media(platform, withdrawn)
    _print(form, found, found)


@app.command()
@reports_errors
def check(
    context: typer.Context, file: FileArgument, name: MediaArgument, form: FormOption = OutputFormat.TABLE
) -> None:
    """Check that a file is the media on record, byte for byte. Exit 1 if not."""
    digest, size = sha256_of(file, form is not OutputFormat.TABLE)
    with client(context) as service:
        held = service.one_media(name)
    same = digest == held.sha256
    columns = ["file", "media", "SHA-256 of the file", "on record", "the same"]
    data = {"file": str(file), "media": name, "sha256": digest, "recorded": held.sha256, "size": size, "same": same}
    show(form, data, columns, [[file, name, digest[:16], held.sha256[:16], "yes" if same else "no"]])
    if not same:
        fail(FAILED, f"{file} is not {name}", "Fetch it again, or record it as a media of its own")


@app.command()
@reports_errors
def verify(
    context: typer.Context,
    name: MediaArgument,
    published: Annotated[str, typer.Argument(metavar="SHA256", help="The SHA-256 that the vendor publishes.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record the SHA-256 that the vendor publishes for a media; refused if the media has another."""
    with client(context) as service:
        found = service.verify_media(name, published)
    _print(form, found, [found])


@app.command()
@reports_errors
def withdraw(
    context: typer.Context,
    name: MediaArgument,
    why: Annotated[str, typer.Option(help="Why it is not to be used any more.")],
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Take a media out of use. Kits that were made for it are no longer handed out."""
    with client(context) as service:
        found = service.withdraw_media(name, why)
    _print(form, found, [found])


@app.command()
@reports_errors
def plan(
    context: typer.Context,
    device: Annotated[
        list[str] | None, typer.Argument(metavar="DEVICE", help="Devices of the batch; or choose them by options.")
    ] = None,
    platform: PlatformOption = "",
    release: ReleaseOption = "",
    selection: SelectionOption = "",
    state: StateOption = "",
    site: SiteOption = "",
    role: RoleOption = "",
    model: ModelOption = "",
    sticks_per_site: Annotated[int, typer.Option(min=1, help="Sticks to make for each site.")] = 1,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show which media a batch needs, for which devices, on how many sticks of which size, and what is missing."""
    where = filter_of(state=state, site=site, role=role, model=model)
    request = MediaPlanRequest(
        devices=device or [], platform=platform, selection=selection, where=where, release=release,
        sticks_per_site=sticks_per_site,
    )  # fmt: skip
    with client(context) as service:
        found = service.media_plan(request)
    rows: list[list[object]] = [
        [
            u.media,
            u.what,
            _some(u.devices),
            [f"{n} × {u.stick_gb} GB, {site}" for site, n in u.sticks.items()],
            u.defects or "sound",
        ]
        for u in found.uses
    ]
    rows += [["none", m.why, _some(m.devices), "", m.hint] for m in found.mismatches]
    columns = ["media", "what it is, or what is missing", "devices", "sticks", "today, or the hint"]
    typed = [[u.media, u.what, name, "; ".join(u.defects)] for u in found.uses for name in u.devices]
    typed += [["", m.why, name, m.hint] for m in found.mismatches for name in m.devices]
    heads = ["media", "what it is, or what is missing", "device", "today, or the hint"]
    show(form, found, columns, rows, f"Media for {found.release}", typed=(heads, typed))
    groups = [use.devices for use in found.uses] + [gap.devices for gap in found.mismatches]
    if form is OutputFormat.TABLE and any(len(devices) > NAMED for devices in groups):
        say("Every device by name: [bold]--format csv[/], or the console's plan.")


NAMED = 12


def _some(devices: Sequence[str]) -> str:
    more = f" and {len(devices) - NAMED} more" if len(devices) > NAMED else ""
    return f"{len(devices)}: {', '.join(devices[:NAMED])}{more}"
