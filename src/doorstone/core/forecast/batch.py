"""The forecaster: forecasts of many profiles, each as `forecast` gives it, with what they share worked out once.

Profiles that a release's requirements cannot tell apart share their assessment; cases of the same checks, with the
same facts that overrides look at, share the choice of overrides.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from functools import partial
from typing import Any

from doorstone.core.attempts.override_results import NONE, OverrideResults
from doorstone.core.devices.classes import Classifier
from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.facts import FactValue, View, dump
from doorstone.core.forecast.device_forecast import Forecast, forecast
from doorstone.core.forecast.reach import Answers, Given, given_view
from doorstone.core.kits.overrides import Choice, choose
from doorstone.core.platforms.platform import Platform, Route
from doorstone.core.sorting.assessment import Assessment, Decision, assess
from doorstone.core.sorting.bulk_assessment import BulkAssessment


class BatchForecaster:
    """Forecasts for one platform on one day. `board` gives the board of a release, on which the profiles are."""

    def __init__(
        self, platform: Platform, decisions: Sequence[Decision], as_of: date, board: Callable[[str], BulkAssessment]
    ) -> None:
        self._classifier = Classifier(platform, as_of)
        self._platform = platform
        self._decisions = decisions
        self._as_of = as_of
        self._board = board
        self._needed = sorted(frozenset().union(*(override.needs.facts() for override in platform.overrides)))
        self._choices: dict[Any, Choice] = {}
        self._after_fixes: dict[tuple[str, Given, tuple[int, ...]], Assessment] = {}

    def forecast(
        self,
        number: int,
        view: View,
        own: str,
        exceptions: Sequence[ExceptionTerms],
        experience: OverrideResults = NONE,
    ) -> Forecast | None:
        """The forecast of a profile with these exceptions; None if the sheet does not know the release that it runs.

        `own` names the device that has the profile to itself, if one does.
        """
        if not self._platform.has(view.text("os.release")):
            return None
        answers = Answers(
            lambda release, given: self._assess(number, view, own, release, given), partial(self._choose, experience)
        )
        return forecast(self._platform, own, view, self._decisions, exceptions, answers)

    def _assess(self, number: int, view: View, own: str, release: str, given: Given) -> Assessment:
        board = self._board(release)
        if not given:
            return board.assessment(number)
        key = (release, given, board.outcome(number))
        if key not in self._after_fixes:
            seen = given_view(self._platform, view, given)
            self._after_fixes[key] = assess(self._platform, release, seen, self._decisions, own)
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
