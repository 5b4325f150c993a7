"""The snapshot of the fleet: the records as of one day, read as far as they are asked for, until the ledger grows."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date
from typing import Any, NamedTuple, cast

from msgspec import Struct
from msgspec.structs import replace

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.devices.filter import DeviceFilter
from doorstone.core.devices.life import left_alone
from doorstone.core.devices.profiles import view_of
from doorstone.core.devices.unplaced import unplaced
from doorstone.core.exceptions.life import ExceptionState, ExceptionTerms, shown
from doorstone.core.facts import View
from doorstone.core.forecast.device_forecast import Forecast
from doorstone.core.platforms.platform import Platform, target_release
from doorstone.core.sorting.assessment import Assessment, Decision, State, assess, findings_of
from doorstone.core.sorting.counts import Sorted, sorted_as
from doorstone.store.devices import devices as device_store
from doorstone.store.devices import profiles as profile_store
from doorstone.store.devices.devices import DeviceRow, Record
from doorstone.store.devices.profiles import ProfileCount, ProfileRow
from doorstone.store.exceptions import exceptions as exception_store
from doorstone.store.exceptions.rows import ExceptionRow, TermsRow
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError
from doorstone.work.context.ids import id_of, number_of
from doorstone.work.snapshot.contents import bounded
from doorstone.work.snapshot.excepted_devices import ExceptedDevices, Looked, excepted_devices
from doorstone.work.snapshot.locations import placed
from doorstone.work.snapshot.override_results import FleetOverrideResults
from doorstone.work.snapshot.settling import Settler, decisions_of, roll
from doorstone.work.snapshot.settling_rules import settling_rules
from doorstone.work.snapshot.sheets import Sheet, need_release
from doorstone.work.snapshot.staleness import stale_reasons
from doorstone.work.snapshot.standings import (
    Forecaster,
    Raised,
    assessments,
    count_devices,
    find_devices,
    profiles_in_use,
    standings,
)

MOST_HELD = 2_000  # devices of which the view is kept


class ProfileLocations(Struct, frozen=True):
    """The sites, roles and models that devices of a platform have, each in order."""

    sites: tuple[str, ...]
    roles: tuple[str, ...]
    models: tuple[str, ...]


class Snapshot:
    """What the records say on one day. What is asked for is worked out then, device by device or profile by profile."""

    def __init__(self, context: Context) -> None:
        roll(context)
        self.context = context
        self.today: date = context.today()
        with context.database.read() as db:
            self._by = self.rules = settling_rules(context, db)
            self.sheets, self.specs = self._by.sheets, self._by.specs
            self._decisions = {name: decisions_of(context, db, name) for name in self.sheets}
        self._terms: dict[int, ExceptionTerms] = {}
        self._views: dict[str, View] = {}
        self._records: dict[str, Record] = {}
        self._experience: dict[str, FleetOverrideResults] = {}

    def exception(self, name: str) -> ExceptionTerms:
        """What an exception permits; its devices are not listed. Raises `KeyError` for one that is not there."""
        number = number_of("EX", name)
        with self.context.database.read() as db:
            self._read_terms(db, [number])
        return self._terms[number]

    def device(self, device: str) -> DeviceRow:
        """One device. Raises `MissingError`."""
        return device_store.row_of(self._record(device))

    def _record(self, device: str) -> Record:
        if device not in self._records:
            with self.context.database.read() as db:
                found = device_store.records(db, [device])
            if device not in found:
                raise MissingError(f"There is no device {device!r}", "See them with 'doorstone device list'")
            bounded(self._records, MOST_HELD)[device] = found[device]
        return self._records[device]

    def rows(self, devices: Iterable[str]) -> list[DeviceRow]:
        """The devices among these that exist, by id."""
        with self.context.database.read() as db:
            return device_store.named(db, devices)

    def view(self, device: str) -> View:
        """The device settled, with sources and times."""
        if device not in self._views:
            with self.context.database.read() as db:
                found = Settler(self.context, db, by=self._by).view(device, self._record(device))
            bounded(self._views, MOST_HELD)[device] = found
        return self._views[device]

    def shown(self, devices: Iterable[str], release: str, requirements: Collection[str]) -> dict[str, dict[str, Any]]:
        """Device -> what an approval of these requirements rests on there, with the device's own values.

        Left out are devices of a platform that no sheet describes, or whose sheet does not know the release.
        """
        wanted, found = tuple(sorted(requirements)), dict[str, dict[str, Any]]()
        with self.context.database.read() as db:
            records, settler = device_store.records(db, devices), Settler(self.context, db, by=self._by)
            by_platform: dict[str, list[Record]] = {}
            for record in records.values():
                if record.platform in self.sheets and self.sheets[record.platform].platform.has(release):
                    by_platform.setdefault(record.platform, []).append(record)
            for name, mine in by_platform.items():
                found.update(self._shown(settler, self.sheets[name].platform, release, mine, wanted))
        return {device: found[device] for device in records if device in found}

    def _shown(
        self, settler: Settler, platform: Platform, release: str, records: Sequence[Record], wanted: Sequence[str]
    ) -> dict[str, dict[str, Any]]:
        """What approvals rest on, found out anew: by class where one source alone speaks of a device."""
        decisions, specs = self.decisions_for(platform), platform.specs
        facts = {n for r in platform.requirements_at(release) if r.id in wanted for n in r.condition.facts()}
        plain = settler.plain_values(records, facts)
        profiles = {record.profile for record in records if record.id in plain and record.profile is not None}
        known = assessments(self.context, platform, decisions, release, profiles)
        asked = {
            number: [f for f in assessed.findings if f.requirement.id in wanted] for number, assessed in known.items()
        }
        made = {}
        for record in records:
            if record.id in plain and record.profile is not None:
                made[record.id] = shown(asked[record.profile], plain[record.id], specs)
            else:
                view = settler.view(record.id, record)
                findings = findings_of(platform, release, view, decisions, record.id, wanted)
                made[record.id] = shown(findings, view.values(), specs)
        return made

    def sheet_of(self, device: str) -> Sheet | None:
        return self.sheets.get(self._record(device).platform)

    def need_sheet(self, device: str) -> Sheet:
        sheet = self.sheet_of(device)
        if sheet is None:
            row = self._record(device)
            found = unplaced(row.platform, row.running_release, {n: one.platform for n, one in self.sheets.items()})
            assert found is not None
            named = f"The platform of {device} is {row.platform}, which no sheet describes"
            raise MissingError(named if row.platform else f"No reading says which platform {device} has", found.hint)
        return sheet

    def need_in_service(self, device: str) -> None:
        """Raises `MissingError` for a device that is not in service: nothing is planned for it."""
        if alone := left_alone(device, self.device(device).life):
            raise MissingError(f"{alone[0]}, so it has no forecast", "Bring it back into service first")

    def one_platform(self, devices: Iterable[str], hint: str) -> Platform:
        """The platform of these devices. Raises `MissingError`; `BadInputError` with the hint if there are several."""
        wanted = list(dict.fromkeys(devices))
        known = {row.id: row for row in self.rows(wanted)}
        found: dict[str, Platform] = {}
        for device in wanted:
            row = known.get(device) or self.device(device)
            platform = (self.sheets.get(row.platform) or self.need_sheet(device)).platform
            found[platform.id] = platform
        if len(found) != 1:
            raise BadInputError("The devices are of several platforms", hint)
        return next(iter(found.values()))

    def decisions_for(self, platform: Platform) -> list[Decision]:
        return self._decisions.get(platform.id, [])

    def assessment(self, device: str, release: str) -> Assessment:
        """The device against a release, in full: with its own readings and times."""
        platform = self.need_sheet(device).platform
        return assess(platform, release, self.view(device), self.decisions_for(platform), device)

    def assessments(self, rows: Iterable[DeviceRow], release: str) -> dict[str, Assessment]:
        """Devices against a release, by id; those of one profile share theirs, without times and sources of a device.

        Left out are devices of a platform that no sheet describes, or whose sheet does not know the release.
        """
        by_platform: dict[str, dict[str, int]] = {}
        for row in rows:
            sheet = self.sheets.get(row.platform)
            if row.profile is not None and sheet is not None and sheet.platform.has(release):
                by_platform.setdefault(row.platform, {})[row.id] = row.profile
        found: dict[str, Assessment] = {}
        for name, profiles in by_platform.items():
            platform = self.sheets[name].platform
            known = assessments(self.context, platform, self.decisions_for(platform), release, set(profiles.values()))
            found.update({device: known[profile] for device, profile in profiles.items()})
        return found

    def stands(self, row: DeviceRow, platform: Platform, release: str) -> Sorted:
        """The device's state and marks at a release: those of its profile, if it still has it, and its exceptions."""
        raised = self.raised(platform, release)
        if row.id in raised:
            return raised[row.id].stands
        found = standings(self.context, platform, release).of.get(row.profile or 0)
        return found or sorted_as(self.assessment(row.id, release))

    def find(
        self, platform: Platform, release: str, where: DeviceFilter, after: str = "", limit: int = -1
    ) -> list[tuple[DeviceRow, Sorted]]:
        """Devices of a platform by id, those after `after`, with how they stand at a release."""
        with self.context.database.read():
            return find_devices(self.context, platform, release, where, self.raised(platform, release), after, limit)

    def excepted(self, platform: Platform, release: str) -> Mapping[str, frozenset[str]]:
        """Device -> the requirements that exceptions in force name at a release; approvals in doubt do not count."""
        with self.context.database.read():
            return self._excepted_devices().named(platform, release)

    def in_force_by_device(self) -> Mapping[str, tuple[ExceptionTerms, ...]]:
        """Device -> its exceptions that are in force and stand; the same ones until one of them changes."""
        return self._excepted_devices().in_force

    def raised(self, platform: Platform, release: str) -> Mapping[str, Raised]:
        """The devices that their exceptions bring to another state than their profile's."""

        def make() -> Mapping[str, Raised]:
            of = standings(self.context, platform, release).of
            return self._excepted_devices().raised(platform, release, of)

        with self.context.database.read():
            return self.context.known_now(("raised", platform.id, release), platform, make)

    def doubts(self, exception: int) -> Mapping[str, tuple[str, ...]]:
        """The devices for which an approved exception no longer stands, each with what changed since."""
        return self._excepted_devices().doubts.get(exception, {})

    def _excepted_devices(self) -> ExceptedDevices:
        """As they are in this transaction: this snapshot may be older than an import beside it."""
        context = self.context

        def make() -> ExceptedDevices:
            now = snapshot(context)
            platforms = {name: sheet.platform for name, sheet in now.sheets.items()}

            def after(before: ExceptedDevices, touched: Collection[str], looked: Looked) -> ExceptedDevices:
                return before.after(touched, looked, platforms, lambda p, r: standings(context, p, r).of)

            return excepted_devices(context, (platforms, now._decisions, now._by.matches), now._looked, after)

        with context.database.read():
            return context.known_now(("excepted devices",), None, make)

    # ------------------------------------------------------------ the fleet

    def counts(
        self, platform: Platform, release: str, where: DeviceFilter, *, by_site: bool = False, by_role: bool = False
    ) -> list[ProfileCount]:
        """How many devices of each profile stand where, with state and marks at the release; words are not asked.

        Sites and roles are added up, and left empty, unless they are told apart.
        """
        with self.context.database.read():
            found = standings(self.context, platform, release)
            located = placed(self.context, platform.id, where, by_site=by_site, by_role=by_role)
            raised = self.raised(platform, release)
        fitting = {
            number: (model, runs, mine.state, mine.marks)
            for number, (_, model, runs) in found.rows.items()
            if where.fits_class(model, (mine := found.of[number]).marks)
        }
        made = []
        apart: Counter[tuple[int, str, str, str]] = Counter()
        left: Counter[tuple[int, str, str]] = Counter()
        alike = Counter(
            [(one.row.profile or 0, one.row.site, one.row.role, one.stands.state) for one in raised.values()]
        )
        for (profile, site, role, state), devices in alike.items():
            if where.site in ("", site) and where.role in ("", role):
                place = profile, site if by_site else "", role if by_role else ""
                apart[*place, state] += devices
                left[place] += devices
        split = {profile for profile, _, _ in left}
        plain = {n: one for n, one in fitting.items() if where.state in ("", one[2])}
        for profile, site, role, devices in located:
            if known := plain.get(profile):
                rest = devices - left[profile, site, role] if profile in split else devices
                if rest:
                    model, runs, state, marks = known
                    made.append(ProfileCount(profile, site, role, model, runs, rest, state, marks))
        for (profile, site, role, state), devices in sorted(apart.items()):
            if profile in fitting and where.state in ("", state):
                model, runs, _, marks = fitting[profile]
                made.append(ProfileCount(profile, site, role, model, runs, devices, state, marks))
        return made

    def total(self, platform: Platform, release: str, where: DeviceFilter) -> int:
        """How many devices a filter chooses at a release."""
        raised = self.raised(platform, release) if where.state else {}
        rests_on = (self.context.stamp().devices, self.decisions_for(platform), platform, self.today, raised)
        key = ("total", platform.id, release, where)
        return self.context.cached(key, rests_on, lambda: count_devices(self.context, platform, release, where, raised))

    def places(self, platform: Platform) -> ProfileLocations:
        rests_on = self.context.stamp().devices

        def make() -> ProfileLocations:
            with self.context.database.read() as db:
                pairs = profile_store.sites_and_roles(db, platform.id)
                models = {row.model for row in self.profiles_in_use(platform).values()}
            sites, roles = {site for site, _ in pairs}, {role for _, role in pairs}
            return ProfileLocations(*(tuple(sorted(filter(None, names))) for names in (sites, roles, models)))

        return self.context.cached(("places", platform.id), rests_on, make)

    def profiles_in_use(self, platform: Platform) -> Mapping[int, ProfileRow]:
        """The profiles that devices of the platform have, by number."""
        with self.context.database.read():
            return profiles_in_use(self.context, platform)

    def profile_views(self, platform: Platform) -> dict[int, tuple[View, str]]:
        """Every profile in use as a view, without times and sources, and the device that has it to itself, if one."""
        with self.context.database.read() as db:
            contents = profile_store.contents(db, profile_store.in_use(db, platform.id))
        return {n: (view_of(p, platform.specs, self.today), str(p["own"])) for n, p in contents.items()}

    # ------------------------------------------------------ exceptions, ahead

    def exceptions_of(self, device: str) -> list[ExceptionTerms]:
        """What the device's exceptions permit, newest first; their devices are not listed.

        Those in doubt say what changed since their approval.
        """
        return list(self.held([device]).get(device, ()))

    def held(self, devices: Iterable[str]) -> dict[str, tuple[ExceptionTerms, ...]]:
        """Device -> what its exceptions permit, newest first, those in doubt with what changed."""
        every = self._excepted_devices().held
        return {device: every[device] for device in devices if device in every}

    def held_by_device(self) -> Mapping[str, tuple[ExceptionTerms, ...]]:
        """Every device that an exception names -> what its exceptions permit, as `held` has it."""
        return self._excepted_devices().held

    def rows_of_excepted(self, devices: Iterable[str]) -> list[DeviceRow]:
        """The devices among these that an exception names, in the order given."""
        known = self.excepted_rows()
        return [known[device] for device in devices if device in known]

    def excepted_rows(self) -> Mapping[str, DeviceRow]:
        """Every device that an exception names, as it is settled."""
        return self._excepted_devices().rows

    def _looked(self, devices: Iterable[str]) -> Looked:
        """What the exceptions of devices permit, found out anew."""
        with self.context.database.read() as db:
            numbers = exception_store.numbers_of(db, devices)
            self._read_terms(db, {number for held in numbers.values() for number in held})
        doubts = self._doubts(numbers)
        held = {
            device: tuple(self._in_doubt(number, doubts.get(number, {}).get(device, ())) for number in mine)
            for device, mine in numbers.items()
        }
        return Looked(held, doubts, {row.id: row for row in self.rows(numbers)})

    def _in_doubt(self, number: int, doubt: Sequence[str]) -> ExceptionTerms:
        return replace(self._terms[number], doubt="; ".join(doubt)) if doubt else self._terms[number]

    def _doubts(self, devices: Collection[str]) -> dict[int, dict[str, tuple[str, ...]]]:
        """Approved exception -> device -> what changed since the approval. Devices for which it stands are left out."""
        with self.context.database.read() as db:
            approved = exception_store.approved_shown(db, devices)
            conditions = exception_store.fact_conditions(db, approved)
            self._read_terms(db, approved)
        found = {}
        for number, before in approved.items():
            held = self._terms[number]
            changed = stale_reasons(
                self, held.platform, held.release, sorted(held.requirements), conditions.get(number, ()), before
            )
            if changed:
                found[number] = {device: tuple(because) for device, because in changed.items()}
        return found

    def _read_terms(self, db: sqlite3.Connection, numbers: Iterable[int]) -> None:
        missing = [number for number in numbers if number not in self._terms]
        if missing:
            rows = exception_store.terms_by_number(db, missing)
            self._terms.update({number: terms(row) for number, row in rows.items()})

    def forecast(self, device: str) -> Forecast | None:
        """The device's forecast; None if the sheet does not know the release that it runs."""
        return self.forecasts([self.device(device)])[device]

    def forecasts(self, rows: Sequence[DeviceRow]) -> dict[str, Forecast | None]:
        """Devices' forecasts by id: one per profile, exceptions and experience."""
        held = self.held([row.id for row in rows])
        for name in {row.platform for row in rows if row.platform in self.sheets}:
            self.experience(self.sheets[name].platform).read(row.id for row in rows if row.platform == name)
        cases: dict[str, tuple[str, ExceptionCase]] = {}
        for row in rows:
            sheet = self.sheets.get(row.platform)
            if row.profile is not None and sheet is not None:
                known = self.experience(sheet.platform).of(row.id, row.model)
                cases[row.id] = row.platform, ExceptionCase(row.profile, held.get(row.id, ()), known)
        found: dict[str, Mapping[ExceptionCase, Forecast | None]] = {}
        for name in {platform for platform, _ in cases.values()}:
            wanted = {case for platform, case in cases.values() if platform == name}
            found[name] = self._ahead(self.sheets[name].platform, wanted)
        return {row.id: found[cases[row.id][0]][cases[row.id][1]] if row.id in cases else None for row in rows}

    def fleet_forecasts(self, platform: Platform) -> list[tuple[Forecast | None, int]]:
        """Every device's forecast, with how many devices have it."""
        cases = self._cases(platform)
        ahead = self._ahead(platform, cases)
        together: dict[int, tuple[Forecast | None, int]] = {}
        for case, devices in cases.items():
            found = ahead[case]
            together[id(found)] = found, together.get(id(found), (found, 0))[1] + devices
        return list(together.values())

    def _cases(self, platform: Platform) -> dict[ExceptionCase, int]:
        """How many devices each case has, as they are in this transaction."""
        with self.context.database.read() as db:
            sizes, excepted = profile_store.sizes(db, platform.id), self._excepted_devices()
            models = {number: row.model for number, row in self.profiles_in_use(platform).items()}
            known = self.experience(platform)
            refused = {row.id: row for row in self.rows(known.refused())}
        held = Counter(
            [
                (row.profile, excepted.held.get(row.id, ()))
                for row in excepted.rows.values()
                if row.profile is not None and row.platform == platform.id and row.id not in refused
            ]
        )
        cases: Counter[ExceptionCase] = Counter()
        for (profile, mine), devices in held.items():
            sizes[profile] -= devices
            cases[ExceptionCase(profile, mine, known.of_model(models.get(profile, "")))] += devices
        for row in refused.values():
            if row.profile is not None and row.platform == platform.id:
                sizes[row.profile] -= 1
                cases[ExceptionCase(row.profile, excepted.held.get(row.id, ()), known.of(row.id, row.model))] += 1
        for profile, devices in sizes.items():
            cases[ExceptionCase(profile, (), known.of_model(models.get(profile, "")))] += devices
        return {case: devices for case, devices in cases.items() if devices}

    def experience(self, platform: Platform) -> FleetOverrideResults:
        """What attempts have shown of the platform's overrides."""
        if platform.id not in self._experience:
            self._experience[platform.id] = FleetOverrideResults(self.context, platform)
        return self._experience[platform.id]

    def two_forecasts(
        self, platform: Platform, profiles: Iterable[int]
    ) -> dict[int, tuple[Forecast | None, Forecast | None]]:
        """Profile -> its forecast without an exception or experience: with the sheet's overrides, and without any."""
        cases = [ExceptionCase(number, (), NONE) for number in profiles]
        whole, plain = self._ahead(platform, cases), self._ahead(platform, cases, bare=True)
        return {case.profile: (whole[case], plain[case]) for case in cases}

    def forecasts_with(
        self, platform: Platform, wanted: Collection[tuple[int, tuple[ExceptionTerms, ...]]]
    ) -> dict[tuple[int, tuple[ExceptionTerms, ...]], Forecast | None]:
        """Profile and exceptions -> its forecast with these, without experience."""
        cases = {pair: ExceptionCase(*pair, NONE) for pair in wanted}
        found = self._ahead(platform, cases.values())
        return {pair: found[case] for pair, case in cases.items()}

    def _ahead(
        self, platform: Platform, cases: Iterable[ExceptionCase], *, bare: bool = False
    ) -> Mapping[ExceptionCase, Forecast | None]:
        """The forecasts of these cases, those that are known already taken as they are; `bare` ones by no override."""
        decisions = self.decisions_for(platform)
        known: dict[ExceptionCase, Forecast | None] = {}
        if not self.context.database.writing:
            known = self.context.cached(("ahead", platform.id, bare), (platform, decisions, self.today), dict)
            bounded(known, MOST_FORECASTS)
        found = {case: known.get(case, _NOT_YET) for case in cases}
        missing = [case for case, ahead in found.items() if ahead is _NOT_YET]
        if missing:
            asked = {case.profile for case in missing}
            with self.context.database.read() as db:
                made = Forecaster(self.context, db, platform, decisions, asked, bare=bare)
            for case in missing:
                self.context.write_priority.give_way()
                found[case] = known[case] = made.forecast(case.profile, case.exceptions, case.experience)
        return cast(Mapping[ExceptionCase, Forecast | None], found)


class ExceptionCase(NamedTuple):
    """Everything that a forecast rests on, apart from the rules and the day."""

    profile: int
    exceptions: tuple[ExceptionTerms, ...]
    experience: OverrideResults


MOST_FORECASTS = 50_000
_NOT_YET: Any = object()


def sorted_of(count: ProfileCount) -> Sorted:
    return Sorted(count.state, count.marks)


def snapshot(context: Context) -> Snapshot:
    """The snapshot as the records stand now; made anew only after something was written or the day has changed."""
    stamp = context.stamp()
    key = (stamp.ledger, stamp.devices, stamp.readings, context.today(), context.database.writing_since)
    if context.database.writing:
        return context.cache.get(("snapshot", "writing"), key, lambda: Snapshot(context), wait=False)
    return context.cached(("snapshot",), key, lambda: Snapshot(context))


def terms(row: ExceptionRow | TermsRow) -> ExceptionTerms:
    """A stored exception as core needs it."""
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


def assess_device(context: Context, device: str, release: str = "") -> Assessment:
    """Every requirement of `release` on one device, explained, and its state with its exceptions.

    Raises `MissingError`.
    """
    now = snapshot(context)
    row = now.device(device)
    platform = now.need_sheet(device).platform
    release = release or target_release(platform, context.today())
    need_release(platform, release)
    state = State(now.stands(row, platform, release).state)
    return replace(now.assessment(device, release), state=state)
