"""Every call of the client library that only looks, in the job's order, against the demo's records."""

from __future__ import annotations

from decimal import Decimal
from itertools import islice

from doorstone.api.exceptions import ExceptionRequest
from doorstone.api.fleet import WhatIfRequest
from doorstone.api.forecast import BudgetRequest, ScenarioRequest
from doorstone.api.kits import KitBatchRequest
from doorstone.api.media import MediaPlanRequest
from doorstone.api.platforms import MatchRulesRequest, VendorListRequest
from doorstone.client import Client

SHEET = """
format = 1
[platform]
id = "moss"
name = "Moss"
maker = "Moss Works"
editions = ["field"]
[store]
kind = "drop-in-ini"
places = { system = "etc/moss" }
[[release]]
id = "1"
published = 2026-01-12
servicing_ends = { field = 2028-01-12 }
[[requirement]]
id = "memory"
title = "Memory"
from = "1"
condition = { fact = "memory.mib", at_least = 4096 }
enforced_at = ["set-up"]
sort = [{ from = "1", as = "floor" }]
because = "It does not start with less."
"""


def platforms_and_readings(client: Client) -> None:
    tarn = client.platform("tarn")
    print([platform.id for platform in client.platforms()], [release.id for release in tarn.releases])
    print(client.revisions("tarn")[0].revision, client.revision("tarn", 1)[:10], len(client.sheet("tarn")))
    print(sorted(client.sheet_files("tarn")))
    print(client.requirement("tarn", "security-chip").title)
    print(client.sheet_impact(SHEET, name="moss.toml").changed)
    print(client.lists("tarn"), len(client.compare_revisions("tarn", 1, 2)), len(client.tasks("done")))
    raw = VendorListRequest(text="QUERN(R) Q5-740 Processor\n", rules=MatchRulesRequest(suffixes=["Processor"]))
    print(client.match_list("tarn", "tarn-9-processors.csv", raw).names[0].name)
    last = client.imports()[0]
    print(client.get_import(last.id).readings, list(client.import_problems(last.id)))
    print([source.name for source in client.sources()])


def devices(client: Client) -> None:
    first = next(client.devices("tarn", state="needs-exception", site="Herbarium"))
    print(client.device(first.id).facts[0].name, client.assessment(first.id, "9.1").state)
    print([(one.taken_at, one.source) for one in islice(client.device_readings(first.id), 3)])
    print(len(client.disputes("tarn")), client.settlements("nbt-101"), len(client.failure_messages("tarn")))
    print([selection.name for selection in client.selections()], [one.hint for one in client.unplaced()])
    print([(one.device, one.life) for one in client.lives()], client.device_lives("nbt-195")[0].replaced_by)


def sorting_and_fixes(client: Client) -> None:
    print(client.sorting("tarn", "9.1")[0].requirement, len(client.decisions("tarn")))
    print(client.device_fixes("nbt-101").device, client.fix_round("tarn").minutes, client.fix_round_csv("tarn")[:4])
    print(client.overview("tarn", "9.1").uncovered, client.fleet("tarn", by="role").states)
    print(client.compare_fleet("tarn", route="in-place", other_route="clean").devices)
    print(client.what_if(WhatIfRequest(platform="tarn", all_fixes=True)).after)


def exceptions(client: Client) -> None:
    risk = client.risk("tarn", "9.1")
    name = client.exceptions(state="approved")[0].id
    held = client.exception(name)
    asked = ExceptionRequest(
        release=held.release, requirements=held.requirements, devices=held.devices, reason="It works, and is replaced.",
        owner=held.owner, start_on=held.start_on, expires_on=held.expires_on, review_on=held.review_on,
        risk_acknowledged=risk.text, notice_acknowledged=risk.notice,
    )  # fmt: skip
    print(client.check_request(asked).refused)
    print([one.device for one in client.consequences(name)], len(client.exception_page(name)))
    print(len(client.export_exceptions("csv")), client.account(held.devices[0]).device)
    print([one.device for one in client.uncovered(platform="tarn")])
    print(len(client.exception_folder()), client.compare_folder({})[0].exception)


def media_and_kits(client: Client) -> None:
    one = client.media("tarn")[0]
    print(client.one_media(one.id).language, client.media_plan(MediaPlanRequest(platform="tarn")).release)
    kit = client.kits()[0]
    print(client.kit(kit.id).files[0].path, len(client.download_kit(kit.id)), len(client.runbook_page(kit.id)))
    print(client.kit_differences(kit.id, client.kits()[-1].id), client.signing_key()[:10])
    print(client.kit_cases(KitBatchRequest(devices=[kit.devices[0]], release=kit.release, route="in-place")).cases)
    device = kit.devices[0]
    print(client.overrides(device).checks, client.gates(device)[0].result, client.routes(device)[0].route)
    print([known.id for known in client.settings_sets(device)])


def upgrades(client: Client) -> None:
    device = client.attempts()[0].device
    print(client.attempt_draft(device).number, client.attempt_rates("model")[0].key)
    print(client.follow_ups(device).attempt, client.verifications(device), len(client.observations()))
    print(client.standing("nbt-101").release)


def ahead(client: Client) -> None:
    print(client.forecast("nbt-101").forecast.technical.runway, client.fleet_forecast("tarn").devices)
    print(client.scenarios("nbt-101").ways[0].way)
    print(client.what_if_device("nbt-101", ScenarioRequest(granted=["security-chip"])).after.technical.runway)
    print(client.what_if_fleet("tarn", ScenarioRequest(granted=["security-chip"])).longer)
    budget = BudgetRequest(platform="tarn", budget=Decimal(2500))
    print(client.budget_plan(budget).months, client.budget_plan_csv(budget)[:3])
    print(client.budget_paper("tarn", [2500, 10000]).replacements.beyond, client.budget_paper_csv("tarn", [2500])[:7])
    print(client.budget_paper_page("tarn", [2500])[:15])
    print([item.words for item in client.due(kind="uncovered")])


def people_and_ledger(client: Client) -> None:
    print(client.session().name, client.me().name, [person.name for person in client.people()])
    print(client.doctor(deep=True).level, [check.name for check in client.doctor().checks])
    print(len(client.tokens()), len(client.sign_ins()), [webhook.id for webhook in client.webhooks()])
    print([one.deputy for one in client.deputies()])
    entry = next(client.ledger())
    print(entry.action, client.story("exception", "EX-0001")[0].words)
    print(len(b"".join(islice(client.export_ledger(), 1))), client.check_ledger().ok)
    print(len(client.evidence(exception="EX-0001")))


EXAMPLES = (
    platforms_and_readings, devices, sorting_and_fixes, exceptions, media_and_kits, upgrades, ahead, people_and_ledger,
)  # fmt: skip
