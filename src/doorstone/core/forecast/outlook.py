"""The outlook of a sheet that is not loaded: how classes of devices stand at a release, and what lies ahead of them.

In: a sheet, decisions, a day, contents of classes. Out: assessments and forecasts by class, each made when it is asked
for. Loaded sheets have their classes in the records.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from doorstone.core.exceptions.life import ExceptionTerms
from doorstone.core.forecast.batch import BatchForecaster
from doorstone.core.forecast.device_forecast import Forecast
from doorstone.core.platforms.platform import Platform
from doorstone.core.sorting.assessment import Assessment, Decision
from doorstone.core.sorting.bulk_assessment import BulkAssessment, table_for
from doorstone.core.sorting.profile_table import ProfileValues


class SheetOutlook:
    """Assessments and forecasts by a sheet. `contents` are those of classes, each under its number."""

    def __init__(
        self, platform: Platform, decisions: Sequence[Decision], as_of: date, contents: Mapping[int, Mapping[str, Any]]
    ) -> None:
        self.platform = platform
        self._decisions = decisions
        self._as_of = as_of
        values = ProfileValues()
        values.add({number: json.dumps(content) for number, content in contents.items()})
        self._table = table_for(platform, as_of, values)
        self._table.add(contents)
        self._boards: dict[str, BulkAssessment] = {}
        self._whole = BatchForecaster(platform, decisions, as_of, self._table, self._board)
        self._bare = self._whole.without_overrides()

    def assessment(self, number: int, release: str) -> Assessment:
        """A class against a release. Raises `KeyError` for a release that the sheet does not have."""
        return self._board(release).assessment(number)

    def forecast(self, number: int, exceptions: Sequence[ExceptionTerms] = ()) -> Forecast | None:
        """The forecast of a class with these exceptions; None if the sheet does not know the release that it runs."""
        return self._whole.forecast(number, exceptions)

    def forecast_without_overrides(self, number: int) -> Forecast | None:
        """The forecast of a class if the sheet had no override at all."""
        return self._bare.forecast(number, ())

    def _board(self, release: str) -> BulkAssessment:
        if release not in self._boards:
            self._boards[release] = BulkAssessment(self.platform, release, self._decisions, self._as_of, self._table)
        return self._boards[release]
