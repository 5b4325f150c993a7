"""What each way costs: staying, taking the next release, fixing, excepting, paying for servicing, replacing.

In: forecasts, fixes, a `CostModel` from configuration, a day. Out: one `WayCost` per way with every figure's inputs.
Money is in the organisation's currency; months are 30.4375 days. See docs/reference/costs.md.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import ROUND_HALF_UP, Decimal

from doorstone.core.exceptions import ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.forecast import Line, Way, forecast
from doorstone.core.platforms import Platform
from doorstone.core.sorting import Decision, assess

MONTH = Decimal("30.4375")
CENT, TENTH = Decimal("0.01"), Decimal("0.1")


@dataclass(frozen=True, slots=True)
class CostModel:
    """What work, parts and servicing cost; see docs/reference/costs.md for each.

    `slower_per_month` is what a device that was found to run slower costs its user in a month.
    """

    hour: Decimal = Decimal("42.00")
    move_minutes: int = 30
    by_hand_minutes: int = 110
    check_minutes: int = 10
    check_every_days: int = 60
    extended_per_month: Decimal = Decimal("5.50")
    extended_months: int = 12
    replacement_price: Decimal = Decimal("640.00")
    replacement_minutes: int = 150
    replacement_months: int = 48
    slower_per_month: Decimal = Decimal("3.00")


@dataclass(frozen=True, slots=True)
class CostLine:
    """One figure and what it is made of: `quantity` times `each` is `total`."""

    what: str
    quantity: Decimal
    unit: str
    each: Decimal
    total: Decimal


@dataclass(frozen=True, slots=True)
class WayCost:
    """One way: `until` when it keeps the device serviced, over how many `months` from today, `added` of them bought.

    `per_month` is the cost of one added month; None where the way adds none or costs nothing.
    """

    way: str
    until: date | None
    months: Decimal
    added: Decimal
    lines: tuple[CostLine, ...]
    cost: Decimal
    per_month: Decimal | None
    how: str


def ways(
    platform: Platform,
    device: str,
    view: View,
    decisions: Sequence[Decision],
    exceptions: Sequence[ExceptionTerms],
    model: CostModel,
    slower: bool = False,
) -> tuple[WayCost, ...]:
    """Every way of a device with its cost, the one that stays first, then by cost per added month."""
    today = view.as_of
    whole = forecast(platform, device, view, decisions, exceptions)
    plain = forecast(replace(platform, overrides=()), device, view, decisions, exceptions)
    through = whole.serviced_through if whole.serviced_through and whole.serviced_through >= today else None
    stay = _way("stay", through, today, through, [], f"It stays on {whole.release}")
    found = []
    price = _Prices(platform, device, view, decisions, model, slower)
    if plain.technical.moves and plain.technical.runway is not None:
        name = "fix" if any(move.fixes for move in plain.technical.moves) else "take"
        found.append(_of_line(name, plain.technical, price, through))
    by_hand = any(move.way is Way.BY_EXCEPTION for move in whole.technical.moves)
    if by_hand and whole.technical.runway != plain.technical.runway:
        found.append(_of_line("except", whole.technical, price, through))
    if through is not None and model.extended_months:
        until = add_months(through, model.extended_months)
        lines = [_line("Extended servicing", Decimal(model.extended_months), "months", model.extended_per_month)]
        found.append(_way("extend", until, today, through, lines, f"Paid servicing of {whole.release}"))
    until = add_months(today, model.replacement_months)
    lines = [
        _line("A new device", Decimal(1), "device", model.replacement_price),
        _labour("Setting it up", model.replacement_minutes, model),
    ]
    found.append(_way("replace", until, today, through, lines, "A new device that meets everything"))
    found.sort(key=lambda way: (way.per_month is None, way.per_month or Decimal(0)))
    return (stay, *found)


def add_months(day: date, months: int) -> date:
    """The same day so many months on; the last of the month where there is none."""
    year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
    for back in range(4):
        try:
            return date(year, month + 1, day.day - back)
        except ValueError:
            continue
    raise AssertionError(day)


def months_between(first: date, last: date | None) -> Decimal:
    """Months from one day through another, to a tenth; none if the last lies before."""
    if last is None or last < first:
        return Decimal(0)
    return (Decimal((last - first).days + 1) / MONTH).quantize(TENTH, ROUND_HALF_UP)


def _line(what: str, quantity: Decimal, unit: str, each: Decimal) -> CostLine:
    return CostLine(what, quantity, unit, each, (quantity * each).quantize(CENT, ROUND_HALF_UP))


def _labour(what: str, minutes: int, model: CostModel) -> CostLine:
    return _line(what, (Decimal(minutes) / 60).quantize(CENT, ROUND_HALF_UP), "hours", model.hour)


def _way(way: str, until: date | None, today: date, stays: date | None, lines: list[CostLine], how: str) -> WayCost:
    months = months_between(today, until)
    added = max(Decimal(0), months - months_between(today, stays))
    cost = sum((line.total for line in lines), Decimal(0)).quantize(CENT)
    per_month = (cost / added).quantize(CENT, ROUND_HALF_UP) if added and lines else None
    return WayCost(way, until, months, added, tuple(lines), cost, per_month, how)


@dataclass(frozen=True, slots=True)
class _Prices:
    """What a line of moves costs on one device."""

    platform: Platform
    device: str
    view: View
    decisions: Sequence[Decision]
    model: CostModel
    slower: bool

    def lines(self, line: Line) -> list[CostLine]:
        model, found = self.model, []
        by_hand = [move for move in line.moves if move.way is Way.BY_EXCEPTION]
        offered = len(line.moves) - len(by_hand)
        for title, minutes, cost in self._fixes(line):
            found.append(_labour(title, minutes, model))
            if cost:
                found.append(_line(f"Parts: {title}", Decimal(1), "part", cost))
        if offered:
            found.append(_labour("Moves that are offered", offered * model.move_minutes, model))
        if by_hand:
            found.append(_labour("Moves by exception, by hand", len(by_hand) * model.by_hand_minutes, model))
            days = (line.runway - by_hand[0].first).days if line.runway else 0
            checks = days // model.check_every_days
            if checks:
                found.append(_labour("Looking whether updates arrive", checks * model.check_minutes, model))
            if self.slower:
                months = months_between(by_hand[0].first, line.runway)
                found.append(_line("Runs slower than before", months, "months", model.slower_per_month))
        return found

    def _fixes(self, line: Line) -> list[tuple[str, int, Decimal]]:
        """Each fix that the moves need, once: title, minutes, cost of the part."""
        done: dict[str, tuple[str, int, Decimal]] = {}
        for move in line.moves:
            wanted = set(move.fixes)
            if wanted:
                for finding in assess(self.platform, move.release, self.view, self.decisions, self.device).findings:
                    if finding.requirement.id in wanted and finding.fixes:
                        fix = finding.fixes[0]
                        done.setdefault(fix.title, (fix.title, fix.minutes, fix.cost))
        return list(done.values())


def _of_line(way: str, line: Line, price: _Prices, stays: date | None) -> WayCost:
    moves = ", then ".join(f"{move.release} from {move.first}" for move in line.moves)
    return _way(way, line.runway, price.view.as_of, stays, price.lines(line), moves)
