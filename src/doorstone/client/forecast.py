"""The part of the client for attempts, follow-ups, forecasts, scenarios and budget plans."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Literal

from doorstone.api.attempts import (
    AttemptBatchRequest,
    AttemptList,
    AttemptRequest,
    AttemptResponse,
    BatchResponse,
    DraftResponse,
    ObservationBatchRequest,
    RateList,
    RateResponse,
)
from doorstone.api.followups import (
    FollowUpRequest,
    FollowUpResponse,
    FollowUpsResponse,
    VerifiedList,
    VerifiedResponse,
    VerifyReportRequest,
)
from doorstone.api.forecast import (
    BudgetPaperResponse,
    BudgetPlanResponse,
    BudgetRequest,
    DeviceScenarioResponse,
    FleetScenarioRequest,
    FleetScenarioResponse,
    ScenarioComparisonResponse,
    ScenarioRequest,
)
from doorstone.api.updates import ObservationRequest
from doorstone.client.transport import Transport

RateBy = Literal["override", "release", "route", "model", "media", "tool"]


class ForecastCalls(Transport):
    """Batches of attempts and observations, follow-ups, verifications, scenarios, plans."""

    def record_attempts(self, items: Sequence[AttemptRequest]) -> list[AttemptResponse]:
        """All or none; `BadInputError.problem.errors` names each that cannot be recorded."""
        return self._made(AttemptList, "POST", "/attempts/batch", AttemptBatchRequest(items=list(items))).items

    def attempt_draft(self, device: str) -> DraftResponse:
        """What the next attempt on a device starts from."""
        return self._get(DraftResponse, f"/devices/{device}/attempts/draft")

    def attempt_rates(self, by: RateBy = "override", platform: str = "") -> list[RateResponse]:
        return self._get(RateList, "/attempts/rates", by=by, platform=platform).items

    def record_observations(self, items: Sequence[ObservationRequest]) -> BatchResponse:
        """All or none; what is known already is left alone."""
        request = ObservationBatchRequest(items=list(items))
        return self._made(BatchResponse, "POST", "/observations/batch", request)

    def follow_ups(self, device: str) -> FollowUpsResponse:
        """What its last upgrade left to do, in order."""
        return self._get(FollowUpsResponse, f"/devices/{device}/follow-ups")

    def settle_follow_up(self, name: str, request: FollowUpRequest) -> FollowUpResponse:
        """Raises `RefusedError` for one that ends rollback unless it is confirmed."""
        return self._made(FollowUpResponse, "POST", f"/follow-ups/{name}/outcome", request)

    def verifications(self, device: str) -> list[VerifiedResponse]:
        """What verify said on a device, newest first, with what changed since it was last asked."""
        return self._get(VerifiedList, f"/devices/{device}/verifications").items

    def add_verification(self, device: str, report: VerifyReportRequest) -> VerifiedResponse:
        return self._made(VerifiedResponse, "POST", f"/devices/{device}/verifications", report)

    def scenarios(self, device: str) -> ScenarioComparisonResponse:
        """Assumptions, exceptions and costs of a device side by side."""
        return self._get(ScenarioComparisonResponse, f"/devices/{device}/scenarios")

    def what_if_device(self, device: str, supposing: ScenarioRequest) -> DeviceScenarioResponse:
        return self._made(DeviceScenarioResponse, "POST", f"/devices/{device}/what-if", supposing)

    def what_if_fleet(self, platform: str, supposing: ScenarioRequest) -> FleetScenarioResponse:
        request = FleetScenarioRequest(platform=platform, supposing=supposing)
        return self._made(FleetScenarioResponse, "POST", "/forecast/what-if", request)

    def budget_plan(self, request: BudgetRequest) -> BudgetPlanResponse:
        return self._made(BudgetPlanResponse, "POST", "/plan", request)

    def budget_plan_csv(self, request: BudgetRequest) -> str:
        return self._send("POST", "/plan.csv", body=request).text

    def budget_paper(self, platform: str, budgets: Sequence[Decimal | int]) -> BudgetPaperResponse:
        """Budgets side by side, replacements per quarter, prices, and the minimum specification of a new machine."""
        return self._get(BudgetPaperResponse, "/budget-paper", platform=platform, budgets=_amounts(budgets))

    def budget_paper_csv(self, platform: str, budgets: Sequence[Decimal | int]) -> str:
        params = {"platform": platform, "budgets": _amounts(budgets)}
        return self._send("GET", "/budget-paper.csv", params=params).text

    def budget_paper_page(self, platform: str, budgets: Sequence[Decimal | int]) -> bytes:
        """The paper as an HTML page to print."""
        params = {"platform": platform, "budgets": _amounts(budgets)}
        return self._send("GET", "/budget-paper/page", params=params).content


def _amounts(budgets: Sequence[Decimal | int]) -> str:
    return ",".join(str(amount) for amount in budgets)
