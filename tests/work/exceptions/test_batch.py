"""Exceptions in bulk: one request per distinct need, every device named, all or nothing."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from doorstone.core.devices.filter import DeviceFilter
from doorstone.work.context.actor import Receipt
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, RefusedError
from doorstone.work.devices import selections, views
from doorstone.work.exceptions import batch, decisions, requests
from tests.asking import ANSELM, CHIP, NOTICE, PETRA, RISK, TERMS, D, asked, granted, line, on, read
from tests.build import CHIPLESS, GOOD
from tests.running import Run, data

SMALL = {**GOOD, "disk.system_gib": 29}


def test_the_fewest_requests_for_exactly_what_each_device_needs(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", SMALL), line("d3", CHIPLESS), line("d4", GOOD),
         line("d5", {**CHIPLESS, "disk.system_gib": 29}))  # fmt: skip
    found = batch.request_each(context, PETRA, asked("d1", "d2", "d3", "d4", "d5", requirements=()))
    assert [(tuple(view.row.requirements), tuple(view.row.devices)) for view in found.made] == [
        (CHIP, ("d1", "d3")),
        ((*CHIP, "storage"), ("d5",)),
        (("storage",), ("d2",)),
    ]
    assert [(one.device, one.detail) for one in found.refused] == [("d4", "it meets everything that 9.1 asks")]
    with pytest.raises(RefusedError, match="nothing to request") as error:
        batch.request_each(context, PETRA, asked("d1", "d2", requirements=()))
    assert "names what it fails already" in error.value.errors[0].detail


def test_a_request_whose_last_day_has_passed_stands_in_nobodys_way(context: Context) -> None:
    read(context, line("d1", CHIPLESS))
    requests.request(context, PETRA, asked("d1"))  # through 30 September, never decided
    later = on(context, "2027-10-05")
    read(later, line("d1", CHIPLESS, "2027-10-04T08:00:00"))
    terms = {"start_on": D("2027-10-05"), "review_on": D("2027-11-01"), "expires_on": D("2027-12-31"),
             "conditions": ()}  # fmt: skip
    found = batch.request_each(later, PETRA, asked("d1", requirements=(), **terms))
    assert [tuple(view.row.devices) for view in found.made] == [("d1",)]


def test_every_device_of_the_demo_that_needs_one_gets_one_and_the_others_are_named(demo: Context) -> None:
    page = views.list_devices(demo, "tarn", "9.1", DeviceFilter(), "", 500)
    selections.save_selection(demo, PETRA, "needing", "tarn", "9.1", DeviceFilter(state="needs-exception"))
    notice = requests.risk(demo, requests.snapshot(demo).sheets["tarn"].platform, "9.1")
    more = {"risk_acknowledged": notice.text, "notice_acknowledged": notice.notice}
    wanted = asked(requirements=(), more={"selection": "needing", **more})
    found = batch.request_each(demo, PETRA, wanted)
    needing = {d.id for d in page.lines if d.state == "needs-exception"}
    made = {device for view in found.made for device in view.row.devices}
    assert made | {one.device for one in found.refused} == needing
    assert not made & {one.device for one in found.refused}
    marks = {d.id: {name for name, mark in d.marks.items() if mark == "installer-check"} for d in page.lines}
    for view in found.made:
        assert all(set(view.row.requirements) <= marks[device] for device in view.row.devices)
    assert len({tuple(view.row.requirements) for view in found.made}) == len(found.made)


def test_the_same_key_makes_nothing_twice(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", SMALL))
    actor = replace(PETRA, receipt=Receipt("k", "f"))
    read(context, line("d3", GOOD))
    first = batch.request_each(context, actor, asked("d1", "d2", "d3", requirements=()))
    again = batch.request_each(context, actor, asked("d1", "d2", "d3", requirements=()))
    assert again.refused == first.refused != ()
    assert [v.id for v in again.made] == [v.id for v in first.made] == ["EX-0001", "EX-0002"]
    assert len(requests.list_exceptions(context)) == 2


def test_many_are_decided_at_once_or_none(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", SMALL))
    made = batch.request_each(context, PETRA, asked("d1", "d2", requirements=())).made
    one, two = made
    with pytest.raises(RefusedError) as error:
        batch.decide_many(context, ANSELM, [(one.id, 1), (two.id, 7)], "approve", "")
    assert [entry.pointer for entry in error.value.errors] == [two.id]
    assert {requests.get_exception(context, view.id).state for view in made} == {"requested"}
    done = batch.decide_many(context, ANSELM, [(one.id, 1), (two.id, 1)], "approve", "")
    assert [view.state for view in done] == ["approved", "approved"]
    with pytest.raises(BadInputError, match="exceptions at once"):
        batch.decide_many(context, ANSELM, [], "close", "")
    with pytest.raises(RefusedError):
        decisions.decide(context, ANSELM, one.id, "approve", "", 2)


def test_many_are_renewed_with_their_terms_from_the_day_after_their_last_or_none(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", SMALL))
    one, two = granted(context, "d1"), granted(context, "d2", requirements=("storage",))
    how = batch.Renewal(D("2028-03-31"), None, "", RISK, (NOTICE,))
    found = batch.renew_many(context, replace(PETRA, receipt=Receipt("k", "f")), [one, two], how)
    rows = [view.row for view in found.made]
    assert [(row.renews and f"EX-{row.renews:04d}", row.start_on, row.expires_on) for row in rows] == [
        (one, "2027-10-01", "2028-03-31"), (two, "2027-10-01", "2028-03-31"),
    ]  # fmt: skip
    assert [tuple(row.requirements) for row in rows] == [CHIP, ("storage",)]
    assert [row.reason for row in rows] == [TERMS.reason] * 2
    assert [[one.text for one in row.conditions] for row in rows] == [["The cupboard stays locked"]] * 2
    again = batch.renew_many(context, replace(PETRA, receipt=Receipt("k", "f")), [one, two], how)
    assert [view.id for view in again.made] == [view.id for view in found.made]
    with pytest.raises(RefusedError) as error:  # each has a successor now
        batch.renew_many(context, PETRA, [one, two], how)
    assert [entry.pointer for entry in error.value.errors] == [one, two]
    with pytest.raises(BadInputError, match="not acknowledged"):
        batch.renew_many(context, PETRA, [one], replace(how, risk_acknowledged="yes"))


def test_many_get_another_owner_or_none(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", SMALL))
    one, two = granted(context, "d1"), granted(context, "d2", requirements=("storage",))
    seen = [(name, requests.get_exception(context, name).row.version) for name in (one, two)]
    with pytest.raises(RefusedError) as error:
        batch.transfer_many(context, ANSELM, [seen[0], (two, 99)], "wilhelmina", "")
    assert [entry.pointer for entry in error.value.errors] == [two]
    assert {requests.get_exception(context, name).row.owner for name, _ in seen} == {"petra"}
    done = batch.transfer_many(context, ANSELM, seen, "wilhelmina", "Petra has left.")
    assert [view.row.owner for view in done] == ["wilhelmina", "wilhelmina"]


def test_from_the_command_line(run: Run) -> None:
    terms = ["-r", "9.1", "--reason", "They run the reading rooms until spring.", "--expires", "2027-09-30"]
    run("selection", "save", "Needing", "--state", "needs-exception", by="petra")
    words = ["exception", "request", "--selection", "Needing", "--each", *terms]
    dry = run(*words, "-n", by="petra")
    assert dry.returncode == 0, dry.stderr
    assert "Nothing was changed." in dry.stderr
    before = data(run("exception", "list", "--format", "json", by="petra"))
    assert run(*words, by="petra").returncode == 2  # the risk is not acknowledged
    made = data(run(*words, "--acknowledge-risk", "--format", "json", by="petra"))
    ids = [one["exception"] for one in made["groups"]]
    assert len(data(run("exception", "list", "--format", "json", by="petra"))) == len(before) + len(ids)
    done = run("exception", "decline", *ids, "--note", "Not before the budget.", by="anselm")
    assert done.returncode == 0, done.stderr
    states = {one["id"]: one["state"] for one in data(run("exception", "list", "--format", "json", by="petra"))}
    assert {states[name] for name in ids} == {"declined"}
    renewed = run("exception", "renew", "EX-0002", "EX-0004", "--expires", "2028-01-31", "-n", by="petra")
    assert renewed.returncode == 3  # joss, who answers for EX-0002, has left
    assert "EX-0002: There is no active account named 'joss'" in renewed.stderr
    moved = run("exception", "transfer", "EX-0001", "EX-0002", "wilhelmina", "--note", "Joss has left.", by="anselm")
    assert moved.returncode == 0, moved.stderr
    owners = {one["id"]: one["owner"] for one in data(run("exception", "list", "--format", "json", by="petra"))}
    assert (owners["EX-0001"], owners["EX-0002"]) == ("wilhelmina", "wilhelmina")
