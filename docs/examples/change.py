"""Every call of the client library that changes something, in the job's order.

With `client.dry_run` set each makes all its checks and answers what would happen, and nothing is kept.
"""

from __future__ import annotations

import io
import json
import time
import zipfile
from contextlib import suppress
from datetime import date, datetime, timedelta

import pyotp

from doorstone.api.attempts import AttemptRequest
from doorstone.api.devices import (
    DeviceChangeRequest,
    DeviceFilter,
    DevicesChangeRequest,
    LifeRequest,
    SelectionRequest,
    SettlementRequest,
)
from doorstone.api.exceptions import (
    AttachmentRequest,
    ExceptionRequest,
    ExceptionResponse,
    ExceptionTermsRequest,
    FolderChangesRequest,
    RenewalsRequest,
    ReviewRequest,
)
from doorstone.api.fixes import FixDoneRequest
from doorstone.api.followups import FollowUpRequest, VerifyReportRequest
from doorstone.api.kits import KitBatchRequest, KitRequest
from doorstone.api.media import MediaRequest
from doorstone.api.notifications import WebhookRequest
from doorstone.api.people import DeputyRequest, OwnChangeRequest, PersonChangeRequest, PersonRequest, TokenRequest
from doorstone.api.platforms import TaskRequest, VendorListRequest
from doorstone.api.readings import ImportRequest, NewRequirementRequest
from doorstone.api.sorting import DecisionRequest
from doorstone.api.updates import ObservationRequest
from doorstone.client import Client, MissingError
from doorstone.core.devices.life import Life
from doorstone.core.platforms.platform import Sort, UpdateClass
from doorstone.core.sorting.assessment import Scope

TODAY = date(2027, 1, 18)
WHY = "It shows how the call is made."
OWNER = "anselm"

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


def platforms(client: Client) -> None:
    print(client.load_sheet(SHEET, name="moss.toml").revision)
    raw = VendorListRequest(text="Quern Q5-740\nQuern Q5-820\n")
    print(client.load_list("tarn", "tarn-9-processors.csv", raw).revision)
    print(client.change_task(client.tasks()[0].id, TaskRequest(state="open")).state)


def an_import_from_a_file(client: Client) -> None:
    """An import has a rehearsal of its own: `dry`. A short text can be imported in one call."""
    reading = {"device": "nbt-101", "source": "collector", "taken_at": "2027-01-18T07:00:00"}
    begun = client.begin_import(ImportRequest(form="ndjson", dry=True))
    client.send_import_file(begun.id, io.BytesIO(json.dumps({**reading, "facts": {"memory.mib": 16384}}).encode()))
    for at in client.watch_import(begun.id):
        print(at.state, at.checked)
    print(client.import_readings(json.dumps({**reading, "facts": {"memory.mib": 8192}}), "ndjson", dry=True).readings)
    print(client.cancel_import(client.begin_import(ImportRequest(form="ndjson")).id).state)


def devices(client: Client) -> None:
    broken = LifeRequest(devices=["nbt-120"], life=Life.RETIRED, reason="Its board is broken.", wiped_by="petra")
    print([(one.device, one.ends) for one in client.change_lives(broken)])
    print(client.change_device("nbt-101", DeviceChangeRequest(role="loan desk", note=WHY)).device.role)
    moved = client.change_devices(DevicesChangeRequest(at_site="Herbarium", site="Library", note=WHY))
    print(len(moved), moved[0].was["site"], moved[0].now["site"])
    dispute = client.disputes("tarn")[0]
    settled = SettlementRequest(
        device=dispute.device, kind=dispute.kind, subject=dispute.subject, value=dispute.sides[0].value, reason=WHY
    )
    if dispute.kind == "fact":
        print(client.settle_dispute(settled).value)
    chosen = SelectionRequest(platform="tarn", where=DeviceFilter(state="needs-exception"))
    print(client.save_selection("To be asked for", chosen).name)
    client.delete_selection(client.selections()[0].name)


def sorting_and_fixes(client: Client) -> None:
    asked = DecisionRequest(
        platform="tarn", requirement="security-chip", release="9.1", scope=Scope.MODEL, target="Fallow 310",
        sort=Sort.CHECK, evidence="trial", note=WHY,
    )  # fmt: skip
    print(client.decide_sort(asked).sort)
    print(client.withdraw_decision(client.decisions("tarn")[0].id, WHY).withdrawn_by)
    waiting = client.failure_messages("tarn")[0].text
    print(client.match_failure_message("tarn", waiting, "storage").requirement)
    print(client.new_requirement(NewRequirementRequest(
        platform="tarn", text=waiting, id="as-told", title="As it is told", since="9.1")).requirement)  # fmt: skip
    fix = client.device_fixes(next(client.devices("tarn", state="fixable")).id)
    print(client.record_fix(fix.device, FixDoneRequest(title=fix.steps[0].fix.title)).word)


def _asked(client: Client, device: str) -> ExceptionRequest:
    risk = client.risk("tarn", "9.1")
    return ExceptionRequest(
        release="9.1", requirements=["security-chip", "processor-listed"], devices=[device], reason=WHY, owner="petra",
        start_on=TODAY, expires_on=TODAY + timedelta(days=200), review_on=TODAY + timedelta(days=90),
        risk_acknowledged=risk.text, notice_acknowledged=risk.notice, go_on=True,
    )  # fmt: skip


def _one(client: Client, state: str) -> ExceptionResponse:
    return client.exceptions(state=state)[0]


def exceptions(client: Client) -> None:
    needing = [one.id for one in client.devices("tarn", state="needs-exception")]
    for device in needing:
        asked = _asked(client, device)
        if not client.check_request(asked).refused:
            print(client.request_exception(asked).id)
            break
    with zipfile.ZipFile(io.BytesIO(client.exception_folder())) as bundle:
        files = {entry.partition("/")[2]: bundle.read(entry).decode() for entry in bundle.namelist()}
    text = files["EX-0001.toml"].replace('owner = "petra"', 'owner = "anselm"')
    reviewed = FolderChangesRequest(files={"EX-0001.toml": text}, reference="policy 3f2a91c")
    print([one.deed for one in client.request_folder(reviewed)])
    every = asked.model_copy(update={"requirements": [], "devices": needing[:5]})
    print([one.devices for one in client.request_each(every).groups])
    held, waiting = _one(client, "approved"), _one(client, "requested")
    terms = ExceptionTermsRequest(
        reason=WHY, owner=waiting.owner, start_on=waiting.start_on, expires_on=waiting.expires_on,
        review_on=waiting.review_on,
    )  # fmt: skip
    print(client.edit_exception(waiting.id, waiting.version, terms).reason)
    print(client.decide_exception(waiting.id, "decline", waiting.version, WHY).state)
    print(client.withdraw_exception(waiting.id, waiting.version).state)
    print(client.decide_exceptions({held.id: held.version}, "close", WHY)[0].state)
    print(client.comment(held.id, "Is it still in use?").comments[-1].text)
    print(client.attach(held.id, AttachmentRequest(title="Minutes", link="https://nbt.example/minutes")).id)
    for condition in held.conditions:
        if condition.kind == "attested":
            print(client.attest(held.id, condition.number, WHY).id)
    print(client.review_exception(held.id, held.version, ReviewRequest(note=WHY)).review_on)
    print(client.transfer_exception(held.id, held.version, OWNER, WHY).owner)
    print(client.transfer_exceptions({held.id: held.version}, OWNER, WHY)[0].owner)
    risk = client.risk(held.platform, held.release)
    renewed = RenewalsRequest(
        exceptions=[held.id], expires_on=held.expires_on + timedelta(days=90), risk_acknowledged=risk.text,
        notices_acknowledged=[risk.notice],
    )  # fmt: skip
    print(len(client.renew_exceptions(renewed).groups))
    print(client.change_risk("A device that runs by exception may one day get no updates. " + WHY).version)


def media_and_kits(client: Client) -> None:
    digest = "ab" * 32
    added = MediaRequest(platform="tarn", release="9.1", editions=["desk"], language="fy", size=10**9, sha256=digest)
    print(client.add_media(added).verified)
    held = client.media("tarn")[0]
    print(client.withdraw_media(held.id, "Made anew").id)
    print(client.verify_media(held.id, held.sha256).verified)
    made = client.kits()[0]
    if not made.reasons:
        asked = KitRequest(devices=made.devices, release=made.release, route="in-place", waive=made.waived)
        print(client.make_kit(asked).kit.id)
    each = KitBatchRequest(devices=["nbt-021", "nbt-042", "nbt-012"], release="9.1")
    batch = client.make_kits(each)
    print([kit.devices for kit in batch.made], len(batch.refused))


def upgrades(client: Client) -> None:
    at = datetime(2027, 1, 18, 7)
    tried = AttemptRequest(device="nbt-101", outcome="abandoned", started_at=at, ended_at=at)
    rows = "device,seen_on,update_class,result\nnbt-102,2027-01-18,driver,arrived\n"
    print(client.record_file("observations", rows, "csv").items[0].words)
    print(client.record_attempt(tried).number, len(client.record_attempts([tried, tried])))
    open_step = next(
        step for one in client.attempts() for step in client.follow_ups(one.device).steps if step.state == "open"
    )
    print(client.settle_follow_up(open_step.id, FollowUpRequest(state="skipped", reason=WHY)).state)
    seen = ObservationRequest(
        device="nbt-101", seen_on=TODAY, update_class=UpdateClass.SECURITY, result="arrived", source="operator"
    )
    print(client.record_observation(seen).result, client.record_observations([seen]).recorded)
    kit = client.kits()[0]
    report = VerifyReportRequest(kit=kit.id, ok=True, settings=[])
    print(client.add_verification(kit.devices[0], report).ok)


def people_and_webhooks(client: Client) -> None:
    asked = PersonRequest(name="tamsin", role="technician", password="birch-and-bracken-7")
    print(client.add_person(asked).name)
    person = next(one for one in client.people() if one.name == "petra")
    print(client.change_person(person.name, person.version, PersonChangeRequest(display="Petra V.")).display)
    with suppress(MissingError):  # where nobody signs in through a provider
        print(client.bind_person(person.name, "subject-17").name)
    client.set_password(person.name, "birch-and-bracken-8")
    print(client.change_me(client.me().version, OwnChangeRequest(news=["due"])).news)
    away = DeputyRequest(
        person="anselm", deputy="odile", start_on=TODAY, end_on=TODAY + timedelta(days=5), reason="Anselm is on leave."
    )
    print(client.name_deputy(away).deputy, client.end_deputy(client.deputies()[0].id).in_force)
    token = client.issue_token(TokenRequest(name="inventory", role="technician"))
    print(token.name, client.make_calendar()[:4])
    client.revoke_calendar()
    print(client.revoke_token(client.tokens()[0].id).id)
    print(client.begin_second_factor()[:7])
    client.drop_second_factor("petra")
    print(client.add_webhook(WebhookRequest(url="https://nbt.example/events", kinds=["exception"])).id)


def a_webhook_in_earnest(client: Client) -> None:
    webhook = client.add_webhook(WebhookRequest(url="https://nbt.example/events", kinds=["exception"]))
    client.try_webhook(webhook.id)
    print([delivery.kind for delivery in client.deliveries(webhook.id)])
    print(client.remove_webhook(webhook.id).active)


def signing_in(client: Client, name: str, password: str, another: str) -> None:
    """A person's own: the session, another password, and a second factor."""
    print(client.sign_in(name, password).name)
    client.set_my_password(password, another)
    client.sign_in(name, another)
    authenticator = pyotp.parse_uri(client.begin_second_factor())
    assert isinstance(authenticator, pyotp.TOTP)
    client.confirm_second_factor(authenticator.now())
    client.drop_second_factor(code=authenticator.at(int(time.time()) + 30))  # each code counts once


EXAMPLES = (
    platforms, devices, sorting_and_fixes, exceptions, media_and_kits, upgrades, people_and_webhooks,
)  # fmt: skip
"""To be run with `client.dry_run`; the others are in earnest."""
