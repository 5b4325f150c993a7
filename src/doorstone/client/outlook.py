"""The part of the client that speaks of what comes after an upgrade, and of looking further."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from doorstone.client.calls import Calls
from doorstone.formats import wire_outlook as wire
from doorstone.formats.wire_after import AttemptAsked, AttemptList, AttemptShape, ObservationAsked

RateBy = Literal["override", "release", "route", "model", "media", "tool"]


class OutlookCalls(Calls):
    """Batches of attempts and observations, follow-ups, verifications, outlooks, plans."""

    def record_attempts(self, items: Sequence[AttemptAsked]) -> list[AttemptShape]:
        """All or none; `BadInputError.problem.troubles` names each that cannot be recorded."""
        return self._made(AttemptList, "POST", "/attempts/batch", wire.AttemptBatchAsked(items=list(items))).items

    def attempt_draft(self, device: str) -> wire.DraftShape:
        """What the next attempt on a device starts from."""
        return self._get(wire.DraftShape, f"/devices/{device}/attempts/draft")

    def attempt_rates(self, by: RateBy = "override", platform: str = "") -> list[wire.RateShape]:
        return self._get(wire.RateList, "/attempts/rates", by=by, platform=platform).items

    def record_observations(self, items: Sequence[ObservationAsked]) -> wire.BatchShape:
        """All or none; what is known already is left alone."""
        asked = wire.ObservationBatchAsked(items=list(items))
        return self._made(wire.BatchShape, "POST", "/observations/batch", asked)

    def follow_ups(self, device: str) -> wire.FollowUpsShape:
        """What its last upgrade left to do, in order."""
        return self._get(wire.FollowUpsShape, f"/devices/{device}/follow-ups")

    def settle_follow_up(self, name: str, asked: wire.FollowUpAsked) -> wire.FollowUpShape:
        """Raises `RefusedError` for one that ends rollback unless it is confirmed."""
        return self._made(wire.FollowUpShape, "POST", f"/follow-ups/{name}/outcome", asked)

    def verifications(self, device: str) -> list[wire.VerifiedShape]:
        """What verify said on a device, newest first, with what changed since it was last asked."""
        return self._get(wire.VerifiedList, f"/devices/{device}/verifications").items

    def add_verification(self, device: str, report: wire.VerifyReportAsked) -> wire.VerifiedShape:
        return self._made(wire.VerifiedShape, "POST", f"/devices/{device}/verifications", report)

    def outlook(self, device: str) -> wire.OutlookShape:
        """Assumptions, exceptions and costs of a device side by side."""
        return self._get(wire.OutlookShape, f"/devices/{device}/outlook")

    def what_if_device(self, device: str, supposing: wire.SupposingAsked) -> wire.DeviceSupposedShape:
        return self._made(wire.DeviceSupposedShape, "POST", f"/devices/{device}/what-if", supposing)

    def what_if_fleet(self, platform: str, supposing: wire.SupposingAsked) -> wire.FleetSupposedShape:
        asked = wire.FleetSupposingAsked(platform=platform, supposing=supposing)
        return self._made(wire.FleetSupposedShape, "POST", "/forecast/what-if", asked)

    def budget_plan(self, asked: wire.BudgetAsked) -> wire.BudgetPlanShape:
        return self._made(wire.BudgetPlanShape, "POST", "/plan", asked)

    def budget_plan_csv(self, asked: wire.BudgetAsked) -> str:
        return self._send("POST", "/plan.csv", body=asked).text
