"""The picture of the fleet: every device settled, assessed once per profile, kept until the ledger grows."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime

from doorstone.core.exceptions import ExceptionState, ExceptionTerms
from doorstone.core.facts import BUILT_IN, FactSpec, Reading, View, settle
from doorstone.core.fleet import profile_key
from doorstone.core.forecast import Forecast, forecast
from doorstone.core.platforms import Platform, Sort
from doorstone.core.sorting import Assessment, Decision, Scope, assess
from doorstone.store import decisions as decision_store
from doorstone.store import devices as device_store
from doorstone.store import exceptions as exception_store
from doorstone.store import ledger
from doorstone.store.devices import DeviceRow
from doorstone.store.exceptions import ExceptionRow
from doorstone.work.desk import Desk, id_of
from doorstone.work.errors import MissingError
from doorstone.work.sheets import Sheet, all_sheets


class Picture:
    """All devices as of one day. Views are settled at once; assessments and forecasts when first asked for."""

    def __init__(self, desk: Desk) -> None:
        self.today: date = desk.today()
        self.policy = desk.policy
        with desk.database.read() as db:
            self.sheets = all_sheets(desk)
            self.specs = all_specs(self.sheets)
            self.devices = {row.id: row for row in device_store.every(db)}
            self.views = self._settle(device_store.facts(db), device_store.verdicts(db))
            self.decisions = [_decision(row) for row in decision_store.every(db)]
            self._platform_of_decision = {id_of("SD", r.id): r.platform for r in decision_store.every(db)}
            self.exceptions = [terms(row) for row in exception_store.every(db)]
        self._assessed: dict[tuple[str, str, str, str], Assessment] = {}
        self._forecasts: dict[tuple[str, str], Forecast] = {}
        self._profiles: dict[str, str] = {}

    def _settle(
        self, facts: Iterable[device_store.FactRow], verdicts: Iterable[device_store.VerdictRow]
    ) -> dict[str, View]:
        readings: dict[str, list[Reading]] = {device: [] for device in self.devices}
        for row in facts:
            if row.fact in self.specs:
                value = self.specs[row.fact].parse(row.value)
                readings[row.device].append(
                    Reading(row.source, datetime.fromisoformat(row.taken_at), {row.fact: value})
                )
        for said in verdicts:
            at = datetime.fromisoformat(said.taken_at)
            readings[said.device].append(Reading(said.source, at, {}, {said.requirement: said.passed}))
        return {device: settle(held, self.policy.sources, self.specs, self.today) for device, held in readings.items()}

    def device(self, device: str) -> DeviceRow:
        """Raises `MissingError`."""
        if device not in self.devices:
            raise MissingError(f"There is no device {device!r}", "See them with 'doorstone device list'")
        return self.devices[device]

    def sheet_of(self, device: str) -> Sheet | None:
        return self.sheets.get(self.views[device].text("os.platform"))

    def need_sheet(self, device: str) -> Sheet:
        sheet = self.sheet_of(device)
        if sheet is None:
            name = self.views[device].text("os.platform") or "unread"
            raise MissingError(f"The platform of {device} is {name}, which no sheet describes", "Load its sheet first")
        return sheet

    def on_platform(self, platform: str) -> list[str]:
        return [device for device in self.devices if self.views[device].text("os.platform") == platform]

    def decisions_for(self, platform: Platform) -> list[Decision]:
        return [d for d in self.decisions if self._platform_of_decision[d.id] == platform.id]

    def assessment(self, device: str, release: str) -> Assessment:
        """The device against a release, in full: with its own readings and times."""
        platform = self.need_sheet(device).platform
        return assess(platform, release, self.views[device], self.decisions_for(platform), device)

    def summary(self, device: str, release: str) -> Assessment:
        """The same, but shared by all devices of the profile: states, marks and fixes are theirs, times are not."""
        platform = self.need_sheet(device).platform
        key = (platform.id, release, self.profile(device), self._own_key(device))
        if key not in self._assessed:
            self._assessed[key] = self.assessment(device, release)
        return self._assessed[key]

    def profile(self, device: str) -> str:
        if device not in self._profiles:
            self._profiles[device] = profile_key(self.need_sheet(device).platform, self.views[device])
        return self._profiles[device]

    def _own_key(self, device: str) -> str:
        return device if any(d.scope is Scope.DEVICE and d.target == device for d in self.decisions) else ""

    def exceptions_of(self, device: str) -> list[ExceptionTerms]:
        return [e for e in self.exceptions if device in e.devices]

    def forecast(self, device: str) -> Forecast | None:
        """The device's forecast; None if the sheet does not know the release that it runs."""
        sheet = self.sheet_of(device)
        if sheet is None or not sheet.platform.has(self.views[device].text("os.release")):
            return None
        own = device if self.exceptions_of(device) else self._own_key(device)
        key = (self.profile(device), own)
        if key not in self._forecasts:
            self._forecasts[key] = forecast(
                sheet.platform,
                device,
                self.views[device],
                self.decisions_for(sheet.platform),
                self.exceptions_of(device),
            )
        return self._forecasts[key]


def picture(desk: Desk) -> Picture:
    """The picture as the records stand now; made anew only after something was written or the day has changed."""
    with desk.database.read() as db:
        key = (ledger.last_seq(db), desk.today())
    held = desk.memory.get("picture")
    if held is None or held[0] != key:
        held = (key, Picture(desk))
        desk.memory["picture"] = held
    found: Picture = held[1]
    return found


def all_specs(sheets: dict[str, Sheet]) -> dict[str, FactSpec]:
    """The built-in facts and those that any sheet declares."""
    specs = dict(BUILT_IN)
    for sheet in sheets.values():
        specs.update(sheet.platform.specs)
    return specs


def _decision(row: decision_store.DecisionRow) -> Decision:
    return Decision(
        id_of("SD", row.id),
        row.requirement,
        row.release,
        Scope(row.scope),
        row.target,
        Sort(row.sort),
        row.evidence,
        row.note,
        row.by,
        datetime.fromisoformat(row.at),
    )


def terms(row: ExceptionRow) -> ExceptionTerms:
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
