"""The picture of the fleet: the records as of one day, read as far as they are asked for, until the ledger grows."""

from __future__ import annotations

from datetime import date

from doorstone.core.exceptions import ExceptionState, ExceptionTerms
from doorstone.core.facts import View
from doorstone.core.fleet import Sorted, view_of
from doorstone.core.forecast import Forecast, forecast
from doorstone.core.platforms import Platform
from doorstone.core.sorting import Assessment, Decision, assess
from doorstone.store import devices as device_store
from doorstone.store import exceptions as exception_store
from doorstone.store import profiles as profile_store
from doorstone.store.devices import DeviceRow
from doorstone.store.exceptions import ExceptionRow, TermsRow
from doorstone.store.profiles import ProfileCount
from doorstone.work.desk import Desk, id_of
from doorstone.work.errors import MissingError
from doorstone.work.profiles import Settler, all_specs, decisions_of, roll, sort_profiles
from doorstone.work.sheets import Sheet, all_sheets


class Picture:
    """What the records say on one day. Devices are settled one by one, when they are asked for."""

    def __init__(self, desk: Desk) -> None:
        roll(desk)
        self.desk = desk
        self.today: date = desk.today()
        self.sheets = all_sheets(desk)
        self.specs = all_specs(self.sheets)
        with desk.database.read() as db:
            self._decisions = {name: decisions_of(db, name) for name in self.sheets}
            self.exceptions = [terms(row) for row in exception_store.every_terms(db)]
        self._views: dict[str, View] = {}
        self._rows: dict[str, DeviceRow] = {}
        self._forecasts: dict[tuple[int, str], Forecast | None] = {}

    def device(self, device: str) -> DeviceRow:
        """Raises `MissingError`."""
        if device not in self._rows:
            with self.desk.database.read() as db:
                row = device_store.get(db, device)
            if row is None:
                raise MissingError(f"There is no device {device!r}", "See them with 'doorstone device list'")
            self._rows[device] = row
        return self._rows[device]

    def view(self, device: str) -> View:
        """The device settled, with sources and times."""
        if device not in self._views:
            with self.desk.database.read() as db:
                self._views[device] = Settler(self.desk, db).view(device)
        return self._views[device]

    def sheet_of(self, device: str) -> Sheet | None:
        return self.sheets.get(self.device(device).platform)

    def need_sheet(self, device: str) -> Sheet:
        sheet = self.sheet_of(device)
        if sheet is None:
            name = self.device(device).platform or "unread"
            raise MissingError(f"The platform of {device} is {name}, which no sheet describes", "Load its sheet first")
        return sheet

    def decisions_for(self, platform: Platform) -> list[Decision]:
        return self._decisions.get(platform.id, [])

    def assessment(self, device: str, release: str) -> Assessment:
        """The device against a release, in full: with its own readings and times."""
        platform = self.need_sheet(device).platform
        return assess(platform, release, self.view(device), self.decisions_for(platform), device)

    def counts(self, platform: Platform, release: str) -> list[ProfileCount]:
        """How many devices of each profile stand where, with state and marks at the release."""
        sort_profiles(self.desk, platform, release)
        with self.desk.database.read() as db:
            return profile_store.counts(db, platform.id, release)

    def profile_views(self, platform: Platform) -> dict[int, tuple[View, str]]:
        """Every profile in use as a view, without times and sources, and the device that has it to itself, if one."""
        with self.desk.database.read() as db:
            pictures = profile_store.pictures(db, profile_store.sizes(db, platform.id))
        return {n: (view_of(p, platform.specs, self.today), str(p["own"])) for n, p in pictures.items()}

    def exceptions_of(self, device: str) -> list[ExceptionTerms]:
        return [e for e in self.exceptions if device in e.devices]

    def forecast(self, device: str) -> Forecast | None:
        """The device's forecast; None if the sheet does not know the release that it runs."""
        row, sheet = self.device(device), self.sheet_of(device)
        if sheet is None or row.profile is None or not sheet.platform.has(row.runs):
            return None
        held = self.exceptions_of(device)
        key = (row.profile, device if held else "")
        if key not in self._forecasts:
            decisions = self.decisions_for(sheet.platform)
            self._forecasts[key] = forecast(sheet.platform, device, self.view(device), decisions, held)
        return self._forecasts[key]

    def fleet_forecasts(self, platform: Platform) -> list[tuple[Forecast | None, int]]:
        """Every device's forecast, once per profile; devices with exceptions have their own."""
        with self.desk.database.read() as db:
            sizes = profile_store.sizes(db, platform.id)
        own = {device for e in self.exceptions for device in e.devices if e.platform == platform.id}
        found: list[tuple[Forecast | None, int]] = []
        for device in sorted(own):
            row = self.device(device)
            if row.platform == platform.id and row.profile in sizes:
                sizes[row.profile] -= 1
                found.append((self.forecast(device), 1))
        views = self.profile_views(platform)
        for profile, count in sizes.items():
            if count:
                found.append((self._of_profile(platform, profile, *views[profile]), count))
        return found

    def _of_profile(self, platform: Platform, profile: int, view: View, own: str) -> Forecast | None:
        key = (profile, "")
        if key not in self._forecasts:
            known = platform.has(view.text("os.release"))
            decisions = self.decisions_for(platform)
            self._forecasts[key] = forecast(platform, own, view, decisions, []) if known else None
        return self._forecasts[key]


def sorted_of(count: ProfileCount) -> Sorted:
    return Sorted(count.state, count.marks)


def picture(desk: Desk) -> Picture:
    """The picture as the records stand now; made anew only after something was written or the day has changed."""
    with desk.database.read() as db:
        key = (profile_store.stamp(db), desk.today())
    held = desk.memory.get("picture")
    if held is None or held[0] != key:
        held = (key, Picture(desk))
        desk.memory["picture"] = held
    found: Picture = held[1]
    return found


def terms(row: ExceptionRow | TermsRow) -> ExceptionTerms:
    """What the core needs of a stored exception."""
    return ExceptionTerms(
        id_of("EX", row.id),
        row.platform,
        row.release,
        row.up_to,
        frozenset(row.requirements),
        frozenset(row.devices),
        date.fromisoformat(row.start_on),
        date.fromisoformat(row.expires_on),
        ExceptionState(row.state),
    )
