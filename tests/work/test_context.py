"""What is remembered is given only while what it rests on is the same; who writes goes first."""

from __future__ import annotations

import threading
import time
from datetime import datetime, timedelta

import pytest

from doorstone.core.devices.filter import DeviceFilter
from doorstone.store import people as people_store
from doorstone.work import sorting
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.write_priority import GIVE_WAY, PAGE_WAIT, WritePriority
from doorstone.work.devices import selections
from doorstone.work.devices import views as devices
from doorstone.work.exceptions import activity, decisions
from doorstone.work.forecast import forecasts
from doorstone.work.people import people
from doorstone.work.snapshot.snapshot import snapshot
from tests.asking import ADMIN, ANSELM, PETRA, granted, line, read
from tests.build import CHIPLESS, GOOD


def test_an_answer_is_made_once_while_what_it_rests_on_is_the_same(context: Context) -> None:
    made = []

    def make() -> int:
        made.append(1)
        return len(made)

    assert [context.cached(("q", 1), "a", make) for _ in range(3)] == [1, 1, 1]
    assert context.cached(("q", 2), "a", make) == 2
    assert context.cached(("q", 1), "b", make) == 3


def test_in_a_transaction_that_writes_nothing_is_kept(context: Context) -> None:
    with context.database.write():
        assert context.cached(("q",), "a", lambda: "unsure") == "unsure"
    assert context.cached(("q",), "a", lambda: "sure") == "sure"


def test_what_no_write_changes_is_kept_for_the_transaction_alone(context: Context) -> None:
    made: list[int] = []

    def make() -> int:
        made.append(1)
        return len(made)

    for _ in range(2):
        with context.database.write():
            assert len({context.cached(("q",), "a", make, stable=True) for _ in range(2)}) == 1
    assert len(made) == 2


def test_what_is_known_of_the_records_is_shared_until_they_or_the_day_change(context: Context) -> None:
    made: list[int] = []

    def make() -> int:
        made.append(1)
        return len(made)

    def known(of: object = None) -> int:
        with context.database.read():
            return context.known_now(("q",), of, make)

    read(context, line("d1", GOOD))
    assert (known(), known()) == (1, 1)
    with context.database.write():
        assert context.known_now(("q",), None, make) == 2
    assert context.known_now(("q",), None, make) == 3
    assert known() == 1  # nothing was written
    read(context, line("d1", CHIPLESS, "2027-01-18T08:30:00"))
    assert (known(), known()) == (4, 4)
    context.clock = FixedClock(context.moment() + timedelta(days=1))
    assert (known(), known()) == (5, 5)
    assert known(of := object()) == known(of) == 6


def test_a_page_that_began_before_a_write_keeps_what_it_saw(context: Context) -> None:
    read(context, line("d1", GOOD))
    sheet = snapshot(context).sheets["tarn"].platform

    def state() -> str:
        now = snapshot(context)
        return str(now.stands(now.device("d1"), sheet, "9.1").state)

    with context.database.read():
        assert state() == "clear"
        writer = threading.Thread(target=read, args=(context, line("d1", CHIPLESS, "2027-01-18T08:30:00")))
        writer.start()
        writer.join()
        assert state() == "clear"
    with context.database.read():
        assert state() == "needs-exception"


def test_the_time_of_a_call_stands_still(context: Context) -> None:
    class Ticking:
        def __init__(self) -> None:
            self.at = datetime(2027, 1, 18, 23, 59, 59)

        def now(self) -> datetime:
            self.at += timedelta(seconds=1)
            return self.at

    context.clock = Ticking()
    with context.one_call():
        assert (context.now(), context.today()) == (context.now(), context.today())
    assert context.now() != context.now()


def test_many_who_ask_at_once_have_it_made_once(context: Context) -> None:
    made, given = [], []

    def make() -> str:
        made.append(1)
        time.sleep(0.05)
        return "answer"

    threads = [threading.Thread(target=lambda: given.append(context.cached(("q",), 1, make))) for _ in range(8)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert (len(made), given) == (1, ["answer"] * 8)


def test_counts_follow_every_device_decision_and_exception_at_once(context: Context) -> None:
    def counts() -> tuple[int, int, int]:
        states = forecasts.overview(context, "tarn", "9.1").roll_up.states
        return (
            states["clear"],
            states["needs-exception"],
            devices.list_devices(context, "tarn", "9.1", DeviceFilter()).total,
        )

    assert counts() == (0, 0, 0)
    read(context, line("d1", GOOD), line("d2", CHIPLESS))
    assert counts() == (1, 1, 2)
    read(context, line("d2", GOOD, "2027-01-16T08:00:00"))
    assert counts() == (2, 0, 2)
    read(context, line("d3", CHIPLESS))
    sorting.decide(context, ADMIN, "tarn", "security-chip", "9.1", "model", "Fallow 310", "floor", "trial", "It stops.")
    assert counts() == (2, 0, 3)


def test_a_forecast_follows_the_exception_that_was_granted(context: Context) -> None:
    read(context, line("d1", CHIPLESS), line("d2", CHIPLESS))
    before = forecasts.device_forecast(context, "d1").forecast.approved.runway
    granted(context, "d1")
    assert forecasts.device_forecast(context, "d1").forecast.approved.runway != before
    assert forecasts.device_forecast(context, "d2").forecast.approved.runway == before


def test_what_a_transaction_undoes_was_never_seen_by_others(context: Context) -> None:
    read(context, line("d1", GOOD))
    devices.get_device(context, "d1", "9.1")

    def fail() -> None:
        with context.database.write() as db:
            db.execute("UPDATE devices SET name = 'Undone' WHERE id = 'd1'")
            db.execute("UPDATE change_counters SET changes = changes + 1")
            assert devices.get_device(context, "d1", "9.1").device.name == "Undone"
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    assert devices.get_device(context, "d1", "9.1").device.name == ""


def test_a_token_stops_working_with_the_call_after_it_was_revoked_or_its_person_left(context: Context) -> None:
    first, second = (people.issue_token(context, PETRA, name, "technician", 30) for name in ("one", "two"))
    assert people.who_holds(context, first.secret or "") is not None
    people.revoke_token(context, PETRA, first.id)
    assert people.who_holds(context, first.secret or "") is None
    assert people.who_holds(context, second.secret or "") is not None
    with context.database.write() as db:
        db.execute("UPDATE people SET active = 0 WHERE name = 'petra'")
    assert people.who_holds(context, second.secret or "") is None


def test_every_change_of_people_and_tokens_is_counted(context: Context) -> None:
    counted = [context.stamp().people]
    with context.database.write() as db:
        people_store.add(db, "linus", "Linus", "viewer", "", context.now())
    counted.append(context.stamp().people)
    with context.database.write() as db:
        db.execute("DELETE FROM people WHERE name = 'linus'")
    counted.append(context.stamp().people)
    people.issue_token(context, PETRA, "one", "technician", 30)
    counted.append(context.stamp().people)
    assert counted == sorted(set(counted))


# ------------------------------------------------------------------ write_priority


def test_pages_are_worked_out_two_at_a_time() -> None:
    write_priority, inside, most = WritePriority(), [0], [0]
    lock = threading.Lock()

    def page() -> None:
        with write_priority.paging():
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


@pytest.mark.parametrize(
    ("first", "waits"),
    [("writing", "give_way"), ("writing", "give_way_to_pages"), ("paging", "give_way_to_pages")],
)
def test_who_gives_way_waits_for_who_goes_first_and_not_for_ever(first: str, waits: str) -> None:
    write_priority = WritePriority()
    order: list[str] = []

    def give_way() -> None:
        getattr(write_priority, waits)()
        order.append("last")

    with getattr(write_priority, first)():
        waiting = threading.Thread(target=give_way)
        waiting.start()
        time.sleep(0.02)
        order.append("first")
    waiting.join()
    assert order == ["first", "last"]
    with getattr(write_priority, first)():
        waiting = threading.Thread(target=give_way)
        waiting.start()
        waiting.join(60 * (GIVE_WAY + PAGE_WAIT))
        assert order[2:] == ["last"]  # long as the other takes


def test_an_import_rests_as_long_as_it_works_while_people_ask_for_pages(monkeypatch: pytest.MonkeyPatch) -> None:
    rested = list[float]()
    monkeypatch.setattr("doorstone.work.context.write_priority.time.sleep", rested.append)
    write_priority = WritePriority()
    write_priority.rest(0.1)
    with write_priority.paging():
        pass
    write_priority.rest(0.1)
    write_priority.rest(9)
    assert rested == [0.001, 0.1, 0.2]


def test_who_writes_does_not_wait_for_the_write() -> None:
    write_priority = WritePriority()
    waited: list[object] = []
    write_priority._changed.wait_for = lambda *_: waited.append("waited")  # type: ignore[assignment,method-assign,func-returns-value]
    with write_priority.paging(), write_priority.writing():
        write_priority.give_way()
        write_priority.give_way_to_pages()  # readings that somebody sends and waits for
        assert waited == []
        other = threading.Thread(target=write_priority.give_way)
        other.start()
        other.join()
        assert waited == ["waited"]


def test_what_stands_follows_every_write_that_bears_on_it_and_no_other(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, "os.release": "9.1"}), line("d2", GOOD))
    platform = snapshot(context).sheets["tarn"].platform

    def standing() -> object:
        return snapshot(context).in_force_by_device()

    granted(context, "d1")
    first = standing()
    assert list(snapshot(context).excepted(platform, "9.1")) == ["d1"]
    selections.save_selection(context, PETRA, "floored", "tarn", "", DeviceFilter(state="floored"))
    activity.comment(context, PETRA, "EX-0001", "Seen.")
    assert standing() is first  # nothing that bears on exceptions
    read(context, line("d1", {**CHIPLESS, "os.release": "9.1", "tpm.version": "1.3"}, "2027-01-17T08:00:00"))
    assert snapshot(context).excepted(platform, "9.1") == {}  # another chip: a second look is needed
    decisions.decide(context, ANSELM, "EX-0001", "confirm", "Looked at it.", None)
    assert list(snapshot(context).excepted(platform, "9.1")) == ["d1"]
    decisions.decide(context, ANSELM, "EX-0001", "revoke", "The site is closed.", None)
    assert snapshot(context).excepted(platform, "9.1") == {}
