"""The forecaster: forecasts of many profiles, each as `forecast` gives it, with what they share worked out once.

Profiles that a release's requirements cannot tell apart share their assessment; cases of the same checks, with the
same facts that overrides look at, share the choice of overrides; profiles that differ in nothing that any of these, or
a gate of the path, looks at share the whole forecast, as those of models on which no decision was made.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from datetime import date
from functools import partial
from typing import Any

from msgspec.structs import replace

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.devices.classes import Classifier
from doorstone.core.devices.profiles import view_of
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import FactReader, FactValue, View, dump
from doorstone.core.forecast.device_forecast import Forecast, forecast
from doorstone.core.forecast.reach import SET_UP_ANEW, Answers, Given, given_view
from doorstone.core.kits.overrides import Choice, choose
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import Assessment, Decision
from doorstone.core.sorting.bulk_assessment import BulkAssessment
from doorstone.core.sorting.profile_table import ProfileTable

MOST_KNOWN = 50_000


class BatchForecaster:
    """Forecasts of the profiles of a table on one day. `board` gives the assessment of the table at a release."""

    def __init__(
        self,
        platform: Platform,
        decisions: Sequence[Decision],
        as_of: date,
        table: ProfileTable,
        board: Callable[[str], BulkAssessment],
    ) -> None:
        self._classifier = Classifier(platform, as_of)
        self._reader = FactReader(platform.specs)
        self._table = table
        self._platform = platform
        self._decisions = decisions
        self._as_of = as_of
        self._board = board
        self._boards: dict[str, BulkAssessment] = {}
        self._needed = sorted(frozenset().union(*(override.needs.facts() for override in platform.overrides)))
        gates = [gate.condition.facts() for route in Route for gate in platform.path_gates(route)]
        self._looked_at = ("os.edition", "os.release", *sorted(frozenset(self._needed).union(*gates)))
        self._choices: dict[Any, Choice] = {}
        self._after_fixes: dict[tuple[str, Given, tuple[int, ...]], Assessment] = {}
        self._known: dict[Hashable, Forecast] = {}

    def without_overrides(self) -> BatchForecaster:
        """The same without any override; what fixes lead to, it shares."""
        bare = replace(self._platform, overrides=())
        other = BatchForecaster(bare, self._decisions, self._as_of, self._table, self._board_of)
        other._after_fixes = self._after_fixes
        return other

    def forecast(
        self, number: int, exceptions: Sequence[ExceptionTerms], experience: OverrideResults = NONE
    ) -> Forecast | None:
        """The forecast of a profile with these exceptions; None if the sheet does not know the release that it runs."""
        runs = self._table.text(number, "os.release")
        if not self._platform.has(runs):
            return None
        key = self._seen_of(number, runs), tuple(exceptions), experience
        if key not in self._known:
            if len(self._known) > MOST_KNOWN:
                self._known.clear()
            content = self._table.values.content(number)
            view = view_of(content, self._platform.specs, self._as_of, self._reader)
            own = str(content["own"])
            answers = Answers(
                lambda release, given: self._assess(number, view, own, release, given),
                partial(self._choose, experience),
            )
            self._known[key] = forecast(self._platform, own, view, self._decisions, exceptions, answers)
        return self._known[key]

    def _seen_of(self, number: int, runs: str) -> Hashable:
        """All of a profile on which its forecast rests. Profiles for which it is equal share their forecast."""
        ahead = self._platform.releases[self._platform.index(runs) :]
        return (
            tuple([self._board_of(release.id).outcome(number) for release in ahead]),
            self._table.seen(number, self._looked_at),
            self._table.values.seen(number, SET_UP_ANEW),
        )

    def _board_of(self, release: str) -> BulkAssessment:
        if release not in self._boards:
            self._boards[release] = self._board(release)
        return self._boards[release]

    def _assess(self, number: int, view: View, own: str, release: str, given: Given) -> Assessment:
        board = self._board_of(release)
        if not given:
            return board.assessment(number)
        key = (release, given, board.outcome(number))
        if key not in self._after_fixes:
            seen = given_view(self._platform, view, given)
            self._after_fixes[key] = board.after_fixes(number, seen, {name for name, _ in given}, own)
        return self._after_fixes[key]

    def _choose(
        self,
        experience: OverrideResults,
        release: str,
        route: Route,
        values: Mapping[str, FactValue],
        checks: Sequence[str],
        excepted: set[str],
    ) -> Choice:
        seen = tuple([self._outcome(name, values[name]) if name in values else None for name in self._needed])
        key = (release, route, seen, tuple(checks), frozenset(excepted), experience)
        if key not in self._choices:
            self._choices[key] = choose(
                self._platform,
                release,
                route,
                values,
                self._as_of,
                checks,
                excepted,
                alternatives=0,
                known=experience.at(release),
            )
        return self._choices[key]

    def _outcome(self, name: str, value: FactValue) -> object:
        """What overrides can see of a fact: the outcomes of its tests, or the value if it is compared with another."""
        if name in self._classifier.compared:
            return value
        return self._classifier.outcome(name, [dump(value)])
