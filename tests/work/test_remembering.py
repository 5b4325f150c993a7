"""What is remembered is given only while what it rests on is the same; who writes goes first."""

from __future__ import annotations

import threading
import time

import pytest

from doorstone.store import people as people_store
from doorstone.store.devices import Filter
from doorstone.work import deciding, devices, forecast, people, selections, sorting
from doorstone.work.desk import Desk
from doorstone.work.picture import picture
from doorstone.work.traffic import GIVE_WAY, Traffic
from tests.asking import ADMIN, ANSELM, PETRA, granted, line, read
from tests.build import CHIPLESS, GOOD


def test_an_answer_is_made_once_while_what_it_rests_on_is_the_same(desk: Desk) -> None:
    made = []

    def make() -> int:
        made.append(1)
        return len(made)

    assert [desk.remembered(("q", 1), "a", make) for _ in range(3)] == [1, 1, 1]
    assert desk.remembered(("q", 2), "a", make) == 2
    assert desk.remembered(("q", 1), "b", make) == 3


def test_in_a_transaction_that_writes_nothing_is_kept(desk: Desk) -> None:
    with desk.database.write():
        assert desk.remembered(("q",), "a", lambda: "unsure") == "unsure"
    assert desk.remembered(("q",), "a", lambda: "sure") == "sure"


def test_many_who_ask_at_once_have_it_made_once(desk: Desk) -> None:
    made, given = [], []

    def make() -> str:
        made.append(1)
        time.sleep(0.05)
        return "answer"

    threads = [threading.Thread(target=lambda: given.append(desk.remembered(("q",), 1, make))) for _ in range(8)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert (len(made), given) == (1, ["answer"] * 8)


def test_counts_follow_every_device_decision_and_exception_at_once(desk: Desk) -> None:
    def counts() -> tuple[int, int, int]:
        states = forecast.overview(desk, "tarn", "9.1").roll_up.states
        return states["clear"], states["needs-exception"], devices.list_devices(desk, "tarn", "9.1", Filter()).total

    assert counts() == (0, 0, 0)
    read(desk, line("d1", GOOD), line("d2", CHIPLESS))
    assert counts() == (1, 1, 2)
    read(desk, line("d2", GOOD, "2027-01-16T08:00:00"))
    assert counts() == (2, 0, 2)
    read(desk, line("d3", CHIPLESS))
    sorting.decide(desk, ADMIN, "tarn", "security-chip", "9.1", "model", "Fallow 310", "floor", "trial", "It stops.")
    assert counts() == (2, 0, 3)


def test_a_forecast_follows_the_exception_that_was_granted(desk: Desk) -> None:
    read(desk, line("d1", CHIPLESS), line("d2", CHIPLESS))
    before = forecast.device_forecast(desk, "d1").forecast.approved.runway
    granted(desk, "d1")
    assert forecast.device_forecast(desk, "d1").forecast.approved.runway != before
    assert forecast.device_forecast(desk, "d2").forecast.approved.runway == before


def test_what_a_transaction_undoes_was_never_seen_by_others(desk: Desk) -> None:
    read(desk, line("d1", GOOD))
    devices.get_device(desk, "d1", "9.1")

    def fail() -> None:
        with desk.database.write() as db:
            db.execute("UPDATE devices SET name = 'Undone' WHERE id = 'd1'")
            db.execute("UPDATE settled SET changes = changes + 1")
            assert devices.get_device(desk, "d1", "9.1").device.name == "Undone"
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    assert devices.get_device(desk, "d1", "9.1").device.name == ""


def test_a_token_stops_working_with_the_call_after_it_was_revoked_or_its_person_left(desk: Desk) -> None:
    first, second = (people.issue_token(desk, PETRA, name, "technician", 30) for name in ("one", "two"))
    assert people.who_holds(desk, first.secret or "") is not None
    people.revoke_token(desk, PETRA, first.id)
    assert people.who_holds(desk, first.secret or "") is None
    assert people.who_holds(desk, second.secret or "") is not None
    with desk.database.write() as db:
        db.execute("UPDATE people SET active = 0 WHERE name = 'petra'")
    assert people.who_holds(desk, second.secret or "") is None


def test_every_change_of_people_and_tokens_is_counted(desk: Desk) -> None:
    counted = [desk.stamp().people]
    with desk.database.write() as db:
        people_store.add(db, "linus", "Linus", "viewer", "", desk.now())
    counted.append(desk.stamp().people)
    with desk.database.write() as db:
        db.execute("DELETE FROM people WHERE name = 'linus'")
    counted.append(desk.stamp().people)
    people.issue_token(desk, PETRA, "one", "technician", 30)
    counted.append(desk.stamp().people)
    assert counted == sorted(set(counted))


# ------------------------------------------------------------------ traffic


def test_pages_are_worked_out_two_at_a_time() -> None:
    traffic, inside, most = Traffic(), [0], [0]
    lock = threading.Lock()

    def page() -> None:
        with traffic.paging():
            with lock:
                inside[0] += 1
                most[0] = max(most[0], inside[0])
            time.sleep(0.01)
            with lock:
                inside[0] -= 1

    threads = [threading.Thread(target=page) for _ in range(10)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert most[0] == 2


def test_who_gives_way_waits_for_the_writer_and_not_for_ever() -> None:
    traffic = Traffic()
    order: list[str] = []

    def give_way() -> None:
        traffic.give_way()
        order.append("page")

    with traffic.writing():
        assert traffic.lively
        waiting = threading.Thread(target=give_way)
        waiting.start()
        time.sleep(0.02)
        order.append("write")
    waiting.join()
    assert order == ["write", "page"]
    with traffic.writing():
        began = time.monotonic()
        traffic.give_way()
        assert time.monotonic() - began >= GIVE_WAY * 0.9


def test_what_stands_follows_every_write_that_bears_on_it_and_no_other(desk: Desk) -> None:
    read(desk, line("d1", {**CHIPLESS, "os.release": "9.1"}), line("d2", GOOD))
    platform = picture(desk).sheets["tarn"].platform

    def standing() -> object:
        return picture(desk).in_force_by_device(platform)

    granted(desk, "d1")
    first = standing()
    assert list(picture(desk).excepted(platform, "9.1")) == ["d1"]
    selections.save_selection(desk, PETRA, "floored", "tarn", "", Filter(state="floored"))
    assert standing() is first  # nothing that bears on exceptions
    read(desk, line("d1", {**CHIPLESS, "os.release": "9.1", "tpm.version": "1.3"}, "2027-01-17T08:00:00"))
    assert picture(desk).excepted(platform, "9.1") == {}  # another chip: a second look is needed
    deciding.decide(desk, ANSELM, "EX-0001", "confirm", "Looked at it.", None)
    assert list(picture(desk).excepted(platform, "9.1")) == ["d1"]
    deciding.decide(desk, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    assert picture(desk).excepted(platform, "9.1") == {}
