"""Activity of exceptions from the command line: comments, attestations, attachments, owners, exports."""

from __future__ import annotations

import hashlib
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from doorstone.api.exceptions import AttachmentRequest, ReviewRequest, UncoveredResponse
from doorstone.cli.connection import client
from doorstone.cli.exceptions.view import print_exceptions
from doorstone.cli.filters import PlatformOption, SiteOption
from doorstone.cli.output import FormOption, OutputFormat, out, reports_errors, say, show

NameArgument = Annotated[str, typer.Argument(metavar="EXCEPTION", help="Exception id, such as EX-0001.")]
IntoOption = Annotated[Path | None, typer.Option("--into", "-o", dir_okay=False, help="File to write.")]


class ExportForm(StrEnum):
    CSV = "csv"
    JSON = "json"
    OSCAL = "oscal"


@reports_errors
def comment(
    context: typer.Context,
    name: NameArgument,
    text: Annotated[str, typer.Argument(help="The comment.")],
    question: Annotated[bool, typer.Option("--ask", help="Ask the requester back; it waits for the answer.")] = False,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Comment on an exception, ask its requester back, or answer."""
    with client(context) as service:
        found = service.comment(name, text, question=question)
    rows = [[c.at.strftime("%Y-%m-%d %H:%M"), c.by, c.kind, c.text] for c in found.comments]
    show(form, found, ["at", "by", "", "said"], rows)


@reports_errors
def attest(
    context: typer.Context,
    name: NameArgument,
    condition: Annotated[int, typer.Argument(help="Number of the condition.")],
    note: Annotated[str, typer.Option(help="How you know.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Attest that a condition is met today."""
    with client(context) as service:
        found = service.attest(name, condition, note)
    rows = [[c.number, c.text, c.word, c.due_on] for c in found.conditions]
    show(form, found, ["number", "condition", "today", "to be attested by"], rows)


@reports_errors
def attach(
    context: typer.Context,
    name: NameArgument,
    title: Annotated[str, typer.Argument(help="What it is.")],
    link: Annotated[str, typer.Argument(help="Where it is, https://.")],
    file: Annotated[
        Path | None, typer.Option(exists=True, dir_okay=False, help="The same as a file here: its SHA-256 is kept.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Attach evidence by link, with the hash of what is there."""
    digest = hashlib.sha256(file.read_bytes()).hexdigest() if file else ""
    with client(context) as service:
        found = service.attach(name, AttachmentRequest(title=title, link=link, sha256=digest))
    rows = [[a.number, a.title, a.link, a.sha256] for a in found.attachments]
    show(form, found, ["number", "what", "link", "SHA-256"], rows)


@reports_errors
def transfer(
    context: typer.Context,
    names: Annotated[list[str], typer.Argument(metavar="EXCEPTION", help="Exception ids, such as EX-0001.")],
    owner: Annotated[str, typer.Argument(help="Who is to answer for them.")],
    note: Annotated[str, typer.Option(help="Why, in a sentence.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Transfer exceptions to another owner: all of them, or none."""
    with client(context) as service:
        seen = {name: service.exception(name).version for name in names}
        print_exceptions(form, service.transfer_exceptions(seen, owner, note))
    say(f"{owner} answers for {', '.join(names)} now.")


@reports_errors
def review(
    context: typer.Context,
    name: NameArgument,
    note: Annotated[str, typer.Option(help="What the review has shown.")],
    next_on: Annotated[
        datetime | None, typer.Option("--next", formats=["%Y-%m-%d"], help="Next review; its last day if left out.")
    ] = None,
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record the review of an exception, and the day of the next."""
    with client(context) as service:
        request = ReviewRequest(next_on=next_on.date() if next_on else None, note=note)
        found = service.review_exception(name, service.exception(name).version, request)
    print_exceptions(form, [found])
    say(f"Next review: {found.review_on}")


@reports_errors
def uncovered(
    context: typer.Context,
    platform: PlatformOption = "",
    site: SiteOption = "",
    device: Annotated[str, typer.Option(help="Only this device.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List devices that run without permission, since when, and what would end it."""
    with client(context) as service:
        found = service.uncovered(platform=platform, site=site, device=device)
    columns = ["device", "site", "runs", "without permission for", "since", "because", "what would end it"]
    rows = [[d.device, d.site, d.release, d.requirements, _since(d), _because(d), d.steps] for d in found]
    typed = [
        "device",
        "name",
        "site",
        "critical",
        "platform",
        "runs",
        "requirements",
        "since",
        "exact",
        "began",
        "days",
        "cause",
    ]
    typed += ["exception", "why", "what would end it"]
    plain = [
        [
            *(
                d.device,
                d.name,
                d.site,
                d.critical,
                d.platform,
                d.release,
                d.requirements,
                d.since,
                d.exact,
                d.began.value,
                d.days,
            ),
            *(d.cause.value, d.last, d.why, d.steps),
        ]
        for d in found
    ]
    show(form, found, columns, rows, typed=(typed, plain))
    if not found:
        say("Every device runs what it meets, or what an exception in force permits.")


BEGAN = {
    "reading": "a reading", "sheet": "a changed sheet", "decision": "a sorting decision", "upgrade": "the upgrade",
    "lapsed": "a lapse", "revoked": "a revocation", "closed": "a closed exception", "stale": "a stale approval",
}  # fmt: skip


def _since(one: UncoveredResponse) -> list[str]:
    """Since when a device runs without permission, for how long, and what began it."""
    first = f"{one.since}" if one.exact else f"at least {one.since}"
    return [first, f"{one.days} day{'s' if one.days != 1 else ''}", f"began with {BEGAN[one.began]}"]


def _because(one: UncoveredResponse) -> str:
    words = {"never": "nobody has asked", "waits": f"{one.last} waits", "stale": f"{one.last} is stale: {one.why}"}
    return words.get(one.cause, f"{one.last} {'was ' if one.cause != 'lapsed' else ''}{one.cause.value}")


@reports_errors
def consequences(context: typer.Context, name: NameArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """List what to do for each device once an exception no longer holds."""
    with client(context) as service:
        found = service.consequences(name)
    rows = [[one.device, one.runs, one.relies, one.steps] for one in found]
    show(form, found, ["device", "runs", "relies on it", "to do"], rows)


@reports_errors
def account(
    context: typer.Context,
    device: Annotated[str, typer.Argument(help="Device id.")],
    release: Annotated[str, typer.Option("--release", "-r", help="At this release; the one it runs if left out.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show for a device who allowed what, on what evidence, until when, and whether it still holds."""
    with client(context) as service:
        found = service.account(device, release)
    if form is not OutputFormat.TABLE:
        rows = [[p.requirement, p.exception, p.approved_by, p.through, p.holds, p.still] for p in found.permissions]
        show(form, found, ["requirement", "allowed by", "approved by", "through", "holds", "why not"], rows)
        return
    console = out()
    console.print(f"[bold]{device}[/] runs {found.runs}; what it fails at {found.release}:")
    if not found.permissions:
        console.print(f"Nothing. It needs no exception at {found.release}.")
    for p in found.permissions:
        console.print(f"\n[bold]{escape(p.title)}[/] ({p.requirement})")
        console.print(f"  measured: {escape(p.measured)}; {p.sort or 'unsorted'} by {escape(p.sorted_by)}")
        if p.exception:
            own = ", their own request" if p.self_approved else ""
            by = " and ".join(p.approved_by)
            console.print(
                f"  allowed by {p.exception}, approved by {by}{own} on {p.approved_at[:10]}, through {p.through}"
            )
        for c in p.conditions:
            console.print(f"  condition: {escape(c.text)}: {c.word}")
        verdict = "[green]it holds[/]" if p.holds else f"[bold red]it does not hold[/]: {escape('; '.join(p.still))}"
        console.print(f"  {verdict}")
    for one in found.others:
        names = ", ".join(one.requirements)
        console.print(f"\n{one.id} ({one.state}) concerns {one.release}: {names}, through {one.through}.")


@reports_errors
def export(
    context: typer.Context,
    form: Annotated[
        ExportForm | None,
        typer.Option("--format", help="How to write it; by the ending of --into, else CSV."),
    ] = None,
    into: IntoOption = None,
) -> None:
    """Export the register: a table, JSON, or an OSCAL plan of action and milestones."""
    if form is None:
        form = ExportForm.JSON if into is not None and into.suffix == ".json" else ExportForm.CSV
    with client(context) as service:
        data = service.export_exceptions(form.value)
    _write(data, into)


@reports_errors
def page(context: typer.Context, name: NameArgument, into: IntoOption = None) -> None:
    """Write one exception as an HTML page that stands alone, to print or hand over."""
    with client(context) as service:
        data = service.exception_page(name)
    _write(data, into)


def _write(data: bytes, into: Path | None) -> None:
    if into is None:
        typer.echo(data.decode())
        return
    into.write_bytes(data)
    say(f"Written to {into}")


def add_to(app: typer.Typer) -> None:
    """Add these commands to the exceptions' group, in the order of the job."""
    for command in (uncovered, comment, attest, attach, review, transfer, consequences, account, export, page):
        app.command()(command)
