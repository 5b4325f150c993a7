"""What each way costs: staying, taking the next release, fixing, excepting, paying for servicing, replacing.

In: forecasts, fixes, a `CostModel` from configuration, a day. Out: one `WayCost` per way with every figure's inputs.
Money is in the organisation's currency; months are 30.4375 days. See docs/reference/costs.md.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from decimal import ROUND_HALF_UP, Decimal

from dateutil.relativedelta import relativedelta
from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.forecast.device_forecast import Forecast, UpgradePath, forecast
from doorstone.core.forecast.reach import Way
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import Decision

MONTH = Decimal("30.4375")
WAYS = ("stay", "take", "fix", "except", "extend", "replace")
"""The ways of a device, in the order of tables."""
CENT, TENTH = Decimal("0.01"), Decimal("0.1")


class Price(Struct, frozen=True):
    """What a new device costs from a day on."""

    since: date
    price: Decimal


class CostModel(Struct, frozen=True):
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
    prices: tuple[Price, ...] = ()
    data_minutes: int = 90

    def price_on(self, day: date) -> Decimal:
        """What a new device costs on a day, by the price list; without one, `replacement_price`."""
        held = [one for one in self.prices if one.since <= day]
        return max(held, key=lambda one: one.since).price if held else self.replacement_price


class CostLine(Struct, frozen=True):
    """One figure and what it is made of: `quantity` times `each` is `total`."""

    what: str
    quantity: Decimal
    unit: str
    each: Decimal
    total: Decimal


class WayCost(Struct, frozen=True):
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
    """Every way of a device with its cost, the one that stays first, then by cost per added month.

    `slower` says that the device was found to run slower on its release: every month on which it goes on costs its
    user, on each way but a new device.
    """
    whole = forecast(platform, device, view, decisions, exceptions)
    plain = forecast(replace(platform, overrides=()), device, view, decisions, exceptions)
    return ways_of(whole, plain, view.as_of, model, slower)


def ways_of(
    whole: Forecast, plain: Forecast, today: date, model: CostModel, slower: bool = False
) -> tuple[WayCost, ...]:
    """The ways with their costs by two forecasts of a device: with the sheet's overrides, and without any."""
    through = whole.serviced_through if whole.serviced_through and whole.serviced_through >= today else None
    price = _Prices(today, through, model, slower)
    found = []
    if plain.technical.moves and plain.technical.runway is not None:
        name = "fix" if any(move.fixes for move in plain.technical.moves) else "take"
        found.append(price.of_line(name, plain.technical))
    by_hand = any(move.way is Way.BY_EXCEPTION for move in whole.technical.moves)
    if by_hand and whole.technical.runway != plain.technical.runway:
        found.append(price.of_line("except", whole.technical))
    if through is not None and model.extended_months:
        until = add_months(through, model.extended_months)
        lines = [_line("Extended servicing", Decimal(model.extended_months), "months", model.extended_per_month)]
        found.append(price.way("extend", until, lines, f"Paid servicing of {whole.release}"))
    until = add_months(today, model.replacement_months)
    lines = [
        _line("A new device", Decimal(1), "device", model.price_on(today)),
        _labour("Setting it up", model.replacement_minutes, model),
    ]
    new = replace(price, slower=False)
    found.append(new.way("replace", until, lines, "A new device that meets everything", price.staying()))
    found.sort(key=lambda way: (way.per_month is None, way.per_month or Decimal(0)))
    return (price.way("stay", through, [], f"It stays on {whole.release}"), *found)


class WayPrices:
    """The ways of many devices on one day by one model of costs: devices whose forecasts ask the same cost the same."""

    def __init__(self, today: date, model: CostModel) -> None:
        self._today, self._model = today, model
        self._known: dict[tuple[object, ...], tuple[WayCost, ...]] = {}

    def ways_of(self, whole: Forecast, plain: Forecast) -> tuple[WayCost, ...]:
        """As the function `ways_of`."""
        key = whole.release, whole.serviced_through, _priced(whole.technical), _priced(plain.technical)
        if key not in self._known:
            self._known[key] = ways_of(whole, plain, self._today, self._model)
        return self._known[key]


def _priced(line: UpgradePath) -> tuple[object, ...]:
    """What a path's price and words rest on."""
    return line.runway, *(
        (move.release, move.first, move.way, move.route, *((fix.title, fix.minutes, fix.cost) for fix in move.steps))
        for move in line.moves
    )


def add_months(day: date, months: int) -> date:
    """The same day so many months on; the last of the month where there is none."""
    return day + relativedelta(months=months)


def months_between(first: date, last: date | None) -> Decimal:
    """Months from one day through another, to a tenth. 0 if the last day lies before the first."""
    if last is None or last < first:
        return Decimal(0)
    return (Decimal((last - first).days + 1) / MONTH).quantize(TENTH, ROUND_HALF_UP)


def _line(what: str, quantity: Decimal, unit: str, each: Decimal) -> CostLine:
    return CostLine(what, quantity, unit, each, (quantity * each).quantize(CENT, ROUND_HALF_UP))


def _labour(what: str, minutes: int, model: CostModel) -> CostLine:
    return _line(what, (Decimal(minutes) / 60).quantize(CENT, ROUND_HALF_UP), "hours", model.hour)


class _Prices(Struct, frozen=True):
    """What ways cost on one device, which stays serviced through a day, or is no longer, if nothing is done."""

    today: date
    stays: date | None
    model: CostModel
    slower: bool

    def way(
        self, way: str, until: date | None, lines: Sequence[CostLine], how: str, staying: Decimal | None = None
    ) -> WayCost:
        """One way. A month that it adds costs what it costs beyond `staying`, what staying itself costs."""
        staying = self.staying() if staying is None else staying
        months = months_between(self.today, until)
        added = max(Decimal(0), months - months_between(self.today, self.stays))
        every = (*lines, *self._slow(until))
        cost = sum((line.total for line in every), Decimal(0)).quantize(CENT)
        per_month = ((cost - staying) / added).quantize(CENT, ROUND_HALF_UP) if added and lines else None
        return WayCost(way, until, months, added, every, cost, per_month, how)

    def staying(self) -> Decimal:
        return sum((line.total for line in self._slow(self.stays)), Decimal(0))

    def of_line(self, way: str, line: UpgradePath) -> WayCost:
        moves = ", then ".join(f"{move.release} from {move.first}" for move in line.moves)
        return self.way(way, line.runway, self._lines(line), moves)

    def _slow(self, until: date | None) -> list[CostLine]:
        months = months_between(self.today, until)
        if not self.slower or not months:
            return []
        return [_line("Runs slower than before", months, "months", self.model.slower_per_month)]

    def _lines(self, line: UpgradePath) -> list[CostLine]:
        """Every fix that the moves need, once, and the moves themselves."""
        model, found = self.model, []
        by_hand = [move for move in line.moves if move.way is Way.BY_EXCEPTION or move.route is Route.CLEAN]
        offered = len(line.moves) - len(by_hand)
        for fix in (fix for move in line.moves for fix in move.steps):
            found.append(_labour(fix.title, fix.minutes, model))
            if fix.cost:
                found.append(_line(f"Parts: {fix.title}", Decimal(1), "part", fix.cost))
        if offered:
            found.append(_labour("Moves that are offered", offered * model.move_minutes, model))
        if by_hand:
            found.append(_labour("Moves by hand", len(by_hand) * model.by_hand_minutes, model))
            if clean := sum(move.route is Route.CLEAN for move in by_hand):
                found.append(_labour("Saving and restoring data", clean * model.data_minutes, model))
            excepted = [move for move in by_hand if move.way is Way.BY_EXCEPTION]
            days = (line.runway - excepted[0].first).days if line.runway and excepted else 0
            checks = days // model.check_every_days
            if checks:
                found.append(_labour("Looking whether updates arrive", checks * model.check_minutes, model))
        return found
