"""Which overrides would carry a device, were every check on it excepted."""

from __future__ import annotations

from msgspec import Struct

from doorstone.core.exceptions.life import excepted
from doorstone.core.kits.overrides import Choice, choose
from doorstone.core.platforms.platform import Route, Sort
from doorstone.work.context.context import Context
from doorstone.work.snapshot.sheets import need_kit_route
from doorstone.work.snapshot.snapshot import assess_device, snapshot


class OverrideAnswer(Struct, frozen=True):
    """Which overrides would carry this device, were every check on it excepted."""

    device: str
    release: str
    route: Route
    checks: tuple[str, ...]
    choice: Choice


def overrides_for(context: Context, device: str, release: str, route: str) -> OverrideAnswer:
    """The choice for every unmet installer check of the device, before anything is approved."""
    assessment = assess_device(context, device, release)
    now = snapshot(context)
    platform = now.need_sheet(device).platform
    need_kit_route(route)
    permitted = excepted(now.exceptions_of(device), platform, assessment.release, now.today)
    checks = tuple(
        f.requirement.id
        for f in assessment.unmet()
        if f.sort is Sort.CHECK and (not f.fixes or f.requirement.id in permitted)
    )
    view = now.view(device)
    known = now.experience(platform).of(device, now.device(device).model).at(assessment.release)
    values, named = view.values(), permitted | set(checks)
    choice = choose(platform, assessment.release, Route(route), values, view.as_of, checks, named, known=known)
    return OverrideAnswer(device, assessment.release, Route(route), checks, choice)
