"""The client library of media, follow-ups, scenarios and plans: typed both ways, over the WSGI app."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from decimal import Decimal

import pytest
from pydantic import ValidationError

from doorstone.api.attempts import AttemptRequest
from doorstone.api.devices import DeviceFilter
from doorstone.api.followups import FollowUpRequest, VerifyReportRequest
from doorstone.api.forecast import BudgetRequest, ScenarioRequest
from doorstone.api.kits import KitRequest
from doorstone.api.media import MediaPlanRequest, MediaRequest
from doorstone.api.updates import ObservationRequest
from doorstone.client import BadInputError, Client, MissingError, RefusedError, RoleError

Make = Callable[[str], Client]
DIGEST = "ab" * 32


def media(**more: object) -> MediaRequest:
    given = {"platform": "tarn", "release": "9.1", "editions": ["desk"], "language": "fy", "size": 10**9}
    return MediaRequest.model_validate({**given, "sha256": DIGEST, **more})


def tried(device: str, **more: object) -> AttemptRequest:
    at = datetime(2027, 1, 18, 7)
    return AttemptRequest.model_validate(
        {"device": device, "outcome": "abandoned", "started_at": at, "ended_at": at, **more}
    )


def test_media_come_and_go(as_role: Make) -> None:
    client = as_role("technician")
    one = client.add_media(media(published_sha256=DIGEST, link="https://tarn.example/fy", link_ends=date(2027, 2, 1)))
    assert (one.verified, one.needs_gb, one.defects, one.link_ends) == (True, 8, [], date(2027, 2, 1))
    assert client.one_media(one.id) == one
    assert one.id in [m.id for m in client.media("tarn")]
    client.withdraw_media(one.id, "The stick is lost.")
    assert one.id not in [m.id for m in client.media("tarn")]
    assert one.id in [m.id for m in client.media("tarn", withdrawn=True)]
    with pytest.raises(RefusedError):
        client.add_media(media(published_sha256="cd" * 32))
    with pytest.raises(BadInputError):
        client.add_media(media(sha256="short"))
    with pytest.raises(RoleError):
        as_role("viewer").add_media(media())


@pytest.mark.parametrize("text", ["two\nlines", "nul\0", "x" * 10_000_000])
def test_hostile_words_about_media_are_refused_before_they_travel(text: str) -> None:
    for name in ("origin", "maker", "link"):
        with pytest.raises(ValidationError, match=name):
            media(**{name: text})


def test_a_plan_of_media_by_selection_and_by_name(as_role: Make) -> None:
    client = as_role("viewer")
    slates = client.media_plan(MediaPlanRequest(selection="Palm house slates", sticks_per_site=3))
    assert [(use.media, use.sticks) for use in slates.uses] == [("MD-0001", {"Glasshouse": 3})]
    named = client.media_plan(MediaPlanRequest(devices=["nbt-088"], release="9.1"))
    assert (named.uses, named.mismatches[0].devices) == ([], ["nbt-088"])
    whole = client.media_plan(MediaPlanRequest(platform="tarn", where=DeviceFilter(site="Seed Vault")))
    assert sum(len(use.devices) for use in whole.uses) + sum(len(m.devices) for m in whole.mismatches) == 28
    with pytest.raises(MissingError):
        client.media_plan(MediaPlanRequest(selection="no such"))


def test_attempts_and_observations_in_batches(as_role: Make) -> None:
    client = as_role("technician")
    made = client.record_attempts([tried("nbt-064"), tried("nbt-064")])
    assert [a.number for a in made] == [1, 2]
    assert client.attempt_draft("nbt-064").number == 3
    assert [r.key for r in client.attempt_rates("override")] == ["compat-drop-in", "bridge-loader"]
    seen = ObservationRequest.model_validate(
        {"device": "nbt-064", "seen_on": "2027-01-18", "update_class": "security", "result": "arrived"}
    )
    assert client.record_observations([seen, seen]).model_dump() == {"recorded": 1, "known": 1}
    with pytest.raises(BadInputError) as error:
        client.record_attempts([tried("nbt-064"), tried("nbt-999")])
    assert [t.pointer for t in error.value.problem.errors] == ["attempt 2, nbt-999"]
    assert client.attempt_draft("nbt-064").number == 3


def test_follow_ups_and_verifications(as_role: Make) -> None:
    client = as_role("technician")
    found = client.follow_ups("nbt-102")
    assert (found.blocked, found.rollback_until) == (False, None)
    old = next(step for step in found.steps if step.state == "open")
    with pytest.raises(RefusedError):
        client.settle_follow_up(old.id, FollowUpRequest(state="done"))
    assert client.settle_follow_up(old.id, FollowUpRequest(state="done", confirm=True)).by == "petra"
    assert [one.ok for one in client.verifications("nbt-102")] == [False, True]
    report = {
        "kit": "KT-0002",
        "ok": True,
        "settings": [{"name": "accept", "section": "setup/compat", "place": "system"}],
    }
    report["settings"][0]["state"] = "right"  # type: ignore[index]
    back = client.add_verification("nbt-102", VerifyReportRequest.model_validate(report))
    assert [(c.setting, c.was, c.now) for c in back.changed] == [("setup/compat/accept", "missing", "right")]


@pytest.mark.long
def test_scenarios_what_if_and_budget(as_role: Make) -> None:
    client = as_role("viewer")
    found = client.scenarios("nbt-101")
    assert [a.assumption for a in found.assumed] == ["planned", "published", "pessimistic"]
    weight = found.exceptions[0]
    assert (weight.with_it, weight.without_it, weight.fixed_technical) == (date(2027, 9, 1), None, date(2029, 6, 30))
    one = client.what_if_device("nbt-012", ScenarioRequest(granted=["security-chip", "processor-listed"]))
    assert (one.before.approved.runway, one.after.approved.runway) == (date(2027, 2, 28), date(2027, 11, 30))
    fleet = client.what_if_fleet("tarn", ScenarioRequest(fixed=["security-chip"]))
    assert fleet.longer > 30
    assert (fleet.shorter, sum(m.before for m in fleet.months)) == (0, sum(m.after for m in fleet.months))
    asked = BudgetRequest(
        platform="tarn", budget=Decimal(2000), where=DeviceFilter(site="Herbarium"), without=["replace"]
    )
    plan = client.budget_plan(asked)
    assert plan.cost <= 2000
    assert plan.devices == 40
    assert plan.without_money < plan.months <= plan.at_most
    assert "replace" not in {line.way for line in plan.lines}
    assert len(client.budget_plan_csv(asked).splitlines()) == len(plan.lines) + 1


def test_gates_and_kits_know_their_media(as_role: Make) -> None:
    client = as_role("technician")
    by_files = {g.id: g.result for g in client.gates("nbt-088", "in-place", carry_over="files")}
    assert by_files["base-language"] == "holds"
    assert [one.in_place for one in client.settings_sets("nbt-101")] == ["not-stated", "in-place"]
    kit = client.make_kit(KitRequest(device="nbt-021", sets=["quiet-start"], media="MD-0001")).kit
    assert (kit.media, kit.sets) == ("MD-0001", ["quiet-start"])
