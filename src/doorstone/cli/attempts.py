"""After the kit: attempts, observations, the forecast."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

import typer

from doorstone.api.attempts import AttemptRequest, AttemptResponse
from doorstone.api.forecast import UpgradePathResponse
from doorstone.api.updates import ObservationRequest
from doorstone.cli.connection import client
from doorstone.cli.devices import DeviceArgument, course_words, uncovered_words
from doorstone.cli.filters import PlatformOption, ReleaseOption
from doorstone.cli.output import FormOption, OutputFormat, out, reports_errors, say, show
from doorstone.cli.record_files import add_import
from doorstone.core.platforms.platform import UpdateClass

attempt_app = typer.Typer(no_args_is_help=True)
observe_app = typer.Typer(no_args_is_help=True)
_TIMES = ["%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S"]


class Outcome(StrEnum):
    COMPLETED = "completed"
    REFUSED = "refused"
    CARRY_OVER_LOST = "carry-over-lost"
    FAILED_TO_START = "failed-to-start"
    ROLLED_BACK = "rolled-back"
    ABANDONED = "abandoned"


class AttemptRoute(StrEnum):
    IN_PLACE = "in-place"
    CLEAN = "clean"
    OFFERED = "offered"


class CarriedOver(StrEnum):
    EVERYTHING = "everything"
    FILES = "files"
    NOTHING = "nothing"


class Result(StrEnum):
    ARRIVED = "arrived"
    OFFERED = "offered"
    NOT_OFFERED = "not-offered"


class Reason(StrEnum):
    PHASED = "phased"
    HELD = "held"
    UNSUPPORTED = "unsupported"
    UNKNOWN = "unknown"


def _outcome(attempt: AttemptResponse) -> str | list[str]:
    """What came of it, and which record it corrects or is corrected by."""
    words = [f"corrects {attempt.corrects}"] if attempt.corrects else []
    words += [f"corrected by {attempt.corrected_by}"] if attempt.corrected_by else []
    return [attempt.outcome, *words] if words else attempt.outcome


def _print(form: OutputFormat, data: object, attempts: list[AttemptResponse]) -> None:
    columns = ["attempt", "device", "try", "release", "outcome", "refused by", "with", "how", "ended"]
    rows = [
        [
            *(a.id, a.device, a.number, a.release, _outcome(a), a.refused_by),
            [part for part in (a.kit, a.media, a.tool_version) if part],
            [a.route, a.carry_over],
            [str(a.ended_at.date()), f"by {a.by}"],
        ]
        for a in attempts
    ]
    typed = ["attempt", "device", "try", "release", "outcome", "refused by", "kit", "media", "tool"]
    typed += ["route", "carried over", "mismatch", "seen", "started", "ended", "by", "corrects", "corrected by"]
    plain = [
        [
            *(a.id, a.device, a.number, a.release, a.outcome, a.refused_by, a.kit, a.media, a.tool_version),
            *(a.route, a.carry_over, a.mismatch, a.seen, a.started_at, a.ended_at, a.by, a.corrects, a.corrected_by),
        ]
        for a in attempts
    ]
    show(form, data, columns, rows, typed=(typed, plain))


@attempt_app.command("record")
@reports_errors
def record_attempt(
    context: typer.Context,
    device: DeviceArgument,
    outcome: Annotated[Outcome, typer.Option(help="What came of it.")],
    started: Annotated[datetime, typer.Option(formats=_TIMES, help="When it began.")],
    ended: Annotated[datetime, typer.Option(formats=_TIMES, help="When it ended.")],
    kit: Annotated[str, typer.Option(help="The kit used.")] = "",
    release: ReleaseOption = "",
    refused_by: Annotated[list[str] | None, typer.Option(help="The check that refused; repeat for more.")] = None,
    seen: Annotated[str, typer.Option(help="What was seen on the screen.")] = "",
    media: Annotated[str, typer.Option(help="The media used.")] = "",
    tool_version: Annotated[str, typer.Option(help="Version of set-up or of the media maker.")] = "",
    route: Annotated[AttemptRoute, typer.Option(help="By which route; a kit's own where there is one.")] = (
        AttemptRoute.IN_PLACE
    ),
    carry_over: Annotated[CarriedOver, typer.Option(help="What was kept; a kit's own where there is one.")] = (
        CarriedOver.EVERYTHING
    ),
    mismatch: Annotated[str, typer.Option(help="With carry-over-lost: what did not match.")] = "",
    notice_accepted: Annotated[
        bool, typer.Option("--notice-accepted", help="The vendor's notice was shown and accepted.")
    ] = False,
    corrects: Annotated[str, typer.Option(help="The attempt that was recorded wrongly, and is put right.")] = "",
    runs: Annotated[str, typer.Option(help="With --corrects: the release that the device runs after all.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record an attempt. One that completed also says which release the device now runs.

    With --corrects it takes the place of one that was recorded wrongly, which stays on record and counts for nothing.
    """
    request = AttemptRequest.model_validate(
        {
            "device": device,
            "kit": kit,
            "release": release,
            "outcome": outcome.value,
            "refused_by": refused_by or [],
            "seen": seen,
            "media": media,
            "tool_version": tool_version,
            "route": route.value,
            "carry_over": carry_over.value,
            "mismatch": mismatch,
            "notice_accepted": notice_accepted,
            "started_at": started,
            "ended_at": ended,
            "corrects": corrects,
            "runs": runs,
        }
    )
    with client(context) as service:
        found = service.record_attempt(request)
    _print(form, found, [found])
    if outcome is Outcome.COMPLETED:
        say(f"Next: [bold]doorstone forecast[/] {device}")


add_import(
    attempt_app,
    "attempts",
    "Record attempts from a file, all or none. Columns are those of one attempt; refused_by by semicolons.",
)


class RateBy(StrEnum):
    OVERRIDE = "override"
    RELEASE = "release"
    ROUTE = "route"
    MODEL = "model"
    MEDIA = "media"
    TOOL = "tool"


@attempt_app.command("rates")
@reports_errors
def rates(
    context: typer.Context,
    by: Annotated[RateBy, typer.Option(help="What the attempts are counted by.")] = RateBy.OVERRIDE,
    platform: PlatformOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Show how often attempts completed, with the interval that so few allow (95 %, Wilson)."""
    with client(context) as service:
        found = service.attempt_rates(by.value, platform)
    rows = [[r.key, f"{r.done} of {r.tried}", f"{r.low:.0%} to {r.high:.0%}"] for r in found]
    show(form, found, [by.value, "completed", "likely between"], rows)


@attempt_app.command("draft")
@reports_errors
def draft(context: typer.Context, device: DeviceArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Show what the next attempt on a device starts from, and what the earlier ones met."""
    with client(context) as service:
        found = service.attempt_draft(device)
    rows = [[found.number, found.kit or "make one first", found.media, found.tool_version, found.met or "nothing"]]
    show(form, found, ["try", "kit", "media", "tool", "met before"], rows)


@attempt_app.command("list")
@reports_errors
def list_attempts(
    context: typer.Context,
    device: Annotated[str, typer.Option(help="Only of this device.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """List attempts, newest first."""
    with client(context) as service:
        found = service.attempts(device)
    _print(form, found, found)


@observe_app.command("record")
@reports_errors
def record_observation(
    context: typer.Context,
    device: DeviceArgument,
    update_class: Annotated[UpdateClass, typer.Option("--class", help="Which updates.")],
    result: Annotated[Result, typer.Option(help="What was seen.")],
    on: Annotated[datetime, typer.Option("--on", formats=["%Y-%m-%d"], help="The day it was seen.")],
    reason: Annotated[Reason | None, typer.Option(help="Why it is not offered.")] = None,
    source: Annotated[str, typer.Option(help="Who saw it.")] = "operator",
    detail: Annotated[str, typer.Option(help="What it was.")] = "",
    corrects: Annotated[str, typer.Option(help="The observation that was recorded wrongly, and is put right.")] = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Record what was seen of one class of updates."""
    request = ObservationRequest.model_validate(
        {
            "device": device,
            "seen_on": on.date(),
            "update_class": update_class,
            "result": result.value,
            "reason": reason.value if reason else "",
            "source": source,
            "detail": detail,
            "corrects": corrects,
        }
    )
    with client(context) as service:
        found = service.record_observation(request)
    row = [found.id, found.device, found.seen_on, found.update_class, found.result, found.reason]
    show(form, found, ["observation", "device", "seen on", "class", "result", "reason"], [row])


add_import(
    observe_app, "observations", "Record observations from a file, all or none; those known already are left alone."
)


@observe_app.command("standing")
@reports_errors
def show_standing(context: typer.Context, device: DeviceArgument, form: FormOption = OutputFormat.TABLE) -> None:
    """Show, per class of updates, what is expected and what was seen."""
    with client(context) as service:
        found = service.standing(device)
    rows = [
        [
            c.update_class,
            c.expected,
            c.because,
            f"{c.observed.result} {c.observed.reason} on {c.observed.seen_on}".replace("  ", " ") if c.observed else "",
            c.compared,
        ]
        for c in found.classes
    ]
    title = f"{found.device} on {found.release}"
    show(form, found, ["class", "expected", "because of", "seen", "compared"], rows, title)
    if form is OutputFormat.TABLE and found.attributions:
        out().print()
        parts = [[a.exception, a.update_class, a.alone, a.shared_with, a.restored] for a in found.attributions]
        show(form, None, ["exception", "class", "does alone", "shares with", "if fixed"], parts)


@reports_errors
def forecast(
    context: typer.Context,
    device: DeviceArgument,
    release: ReleaseOption = "",
    form: FormOption = OutputFormat.TABLE,
) -> None:
    """Forecast a device: which releases it can reach, how, until when, and what ends it."""
    with client(context) as service:
        found = service.forecast(device, release)
    ahead = found.forecast
    rows = [
        [
            r.release,
            f"{r.way}, clean: data is lost" if r.data_lost else r.way,
            r.overrides,
            r.exceptions or (r.missing and f"ask for {', '.join(r.missing)}"),
            [*filter(None, [r.why or r.not_approved]), *r.warnings],
        ]
        for r in ahead.reaches
    ]
    columns = ["release", "how", "overrides", "exceptions", "why not"]
    show(form, found, columns, rows, f"{device} on {ahead.release}, as of {found.as_of}")
    if form is not OutputFormat.TABLE:
        return
    if found.uncovered:
        out().print(f"\n{uncovered_words(found.uncovered, device, ahead.release)}")
    if ahead.gap_so_far:
        out().print(f"\nOut of servicing since {ahead.gap_so_far.first} ({ahead.gap_so_far.days} days).")
    for name, line in (("Technically", ahead.technical), ("As approved today", ahead.approved)):
        out().print(f"\n[bold]{name}[/]: {line_words(line)}")
    out().print(f"\n{course_words(found.course)}")


def line_words(line: UpgradePathResponse) -> str:
    """A line of moves in words."""
    moves = [
        f"  {m.release} between {m.first} and {m.latest}, {m.way}"
        + (", clean: data is lost" if m.route == "clean" else "")
        + "".join(f"\n    {words}" for words in m.warnings)
        for m in line.moves
    ]
    gaps = [f"  not serviced {g.first} to {g.last}, {g.days} days" for g in line.gaps]
    end = f"serviced through {line.runway}" if line.runway else "no serviced day left"
    return "\n".join([f"{end}; {line.ended_by}.", *moves, *gaps])
