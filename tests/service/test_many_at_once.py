"""Many who come at once: all are let in, and who has waited longest goes next."""

from __future__ import annotations

import selectors
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest

from doorstone.service.listener import Listener, _Channel, _OneByOne
from doorstone.work.context.write_priority import PAGE_WAIT, WritePriority
from tests.running import start_service, stop

KNOCKS = 60


@pytest.mark.process
def test_sixty_who_knock_while_the_service_is_busy_are_all_let_in(tmp_path: Path) -> None:
    """The listener keeps room for them: whoever finds none is told nothing, and tries again a second later."""
    process, address = start_service(tmp_path / "data")
    try:
        process.send_signal(signal.SIGSTOP)  # so busy that it does not even look
        opened = [socket.socket() for _ in range(KNOCKS)]
        for one in opened:
            one.setblocking(False)
            one.connect_ex(("127.0.0.1", int(address.rpartition(":")[2])))
        with selectors.DefaultSelector() as looked_at:
            for one in opened:
                looked_at.register(one, selectors.EVENT_WRITE)
            let_in = looked_at.select(0.2)
        process.send_signal(signal.SIGCONT)
        assert len(let_in) == KNOCKS
        answers = []
        for one in opened:
            with one:
                one.settimeout(30)
                one.sendall(b"GET /healthz HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
                answers.append(one.recv(12))
        assert answers == [b"HTTP/1.1 200"] * KNOCKS
    finally:
        process.send_signal(signal.SIGCONT)
        assert stop(process) == 0


def test_who_has_waited_longest_for_a_page_gets_the_next_lane() -> None:
    write_priority, release = WritePriority(lanes=1), threading.Event()
    order: list[int] = []

    def page(number: int) -> None:
        with write_priority.paging():
            order.append(number)
            release.wait(30)

    threads = [threading.Thread(target=page, args=(number,)) for number in range(12)]
    for before, thread in enumerate(threads):
        thread.start()
        while len(order) + write_priority.waiting <= before:
            time.sleep(0.001)
    assert (order, write_priority.waiting) == ([0], 11)
    release.set()
    for thread in threads:
        thread.join(120)
    assert order == list(range(12))
    with write_priority.paging():  # the lane is free again
        assert write_priority.waiting == 0


def test_an_import_waits_for_pages_no_longer_than_it_has_worked(monkeypatch: pytest.MonkeyPatch) -> None:
    write_priority, waited = WritePriority(), list[float]()
    monkeypatch.setattr(write_priority._changed, "wait_for", lambda held, seconds: waited.append(seconds))
    write_priority.give_way_to_pages()
    with write_priority.paging():
        for _ in range(5):
            write_priority.give_way_to_pages()
    assert len(waited) == 5
    assert max(waited) < PAGE_WAIT / 2


class _Request:
    """A request that notes when it is answered, and takes until `over` is set."""

    def __init__(self, name: str, answered: list[str], over: threading.Event | None = None) -> None:
        self.name, self.answered, self.over = name, answered, over

    def service(self) -> None:
        self.answered.append(self.name)
        if self.over is not None:
            self.over.wait(30)
        if self.name == "bad":
            raise ValueError("it fails, and its worker goes on")


def until(held: Callable[[], bool]) -> None:
    """Wait until something holds."""
    late = time.monotonic() + 30
    while not held():
        assert time.monotonic() < late
        time.sleep(0.001)


@pytest.fixture
def workers() -> Iterator[_OneByOne]:
    made = _OneByOne()
    made.set_thread_count(6)
    yield made
    assert made.shutdown(timeout=30)
    assert made.threads == set()


def test_short_requests_are_answered_in_their_order_one_at_a_time(
    workers: _OneByOne, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("doorstone.service.listener.LONG", 60)
    answered, over = list[str](), threading.Event()
    workers.add_task(_Request("first", answered, over))
    for number in range(50):
        workers.add_task(_Request("bad" if number == 7 else str(number), answered))
    until(lambda: answered != [])
    time.sleep(0.05)
    assert answered == ["first"]
    over.set()
    until(lambda: len(answered) == 51)
    assert answered[1:] == ["bad" if number == 7 else str(number) for number in range(50)]


def test_requests_that_take_long_let_others_be_answered_beside_them(workers: _OneByOne) -> None:
    answered, over = list[str](), threading.Event()
    for number in range(3):
        workers.add_task(_Request(f"long {number}", answered, over))
    for number in range(20):
        workers.add_task(_Request(str(number), answered))
    until(lambda: len(answered) == 23)
    assert not over.is_set()
    workers.add_task(_Request("long 3", answered, over))
    until(lambda: len(answered) == 24)
    workers.add_task(_Request("waits", answered))  # four are at work, and no more are let in
    time.sleep(0.1)
    assert len(answered) == 24
    over.set()
    until(lambda: answered[-1] == "waits")


def test_the_listener_waits_while_a_worker_writes_to_a_connection() -> None:
    one = _Channel.__new__(_Channel)
    one.requests, one.total_outbufs_len, one.will_close, one.close_when_flushed = [object()], 5, False, False
    one.outbuf_lock = threading.Condition()
    with ThreadPoolExecutor(1) as listener:
        assert listener.submit(one.writable).result()
        with one.outbuf_lock:  # a worker is sending
            asked = listener.submit(one.writable)
            time.sleep(0.02)
            assert not asked.done()
            one.total_outbufs_len = 0  # and has sent it all
        assert not asked.result()
        one.requests, one.total_outbufs_len = [], 5  # what an answered request has left is the listener's to send
        with one.outbuf_lock:
            assert listener.submit(one.writable).result()


def test_a_long_answer_reaches_a_slow_reader_whole() -> None:
    parts = [bytes([number]) * 2**20 for number in range(40)]

    def app(_: Any, start: Any) -> list[bytes]:
        start("200 OK", [("Content-Length", str(40 * 2**20))])
        return parts

    listener = Listener(app, "127.0.0.1", 0, threads=2, largest=1_000)
    thread = threading.Thread(target=listener.run)
    thread.start()
    try:
        with httpx.stream("GET", listener.address, timeout=30) as answer:
            time.sleep(0.1)
            assert b"".join(answer.iter_raw(50_000)) == b"".join(parts)
    finally:
        listener.stop()
        thread.join(120)


def test_a_listener_that_has_ended_can_be_stopped_and_writes_into_no_file_of_others(tmp_path: Path) -> None:
    """The numbers of its pipe are given to the next files that are opened."""
    listener = Listener(lambda *_: [b""], "127.0.0.1", 0, threads=1, largest=1_000, look_every=0.01)
    thread = threading.Thread(target=listener.run)
    thread.start()
    listener.stop()
    thread.join(120)
    files = [(tmp_path / f"{number}").open("wb") for number in range(40)]
    listener.stop()
    for file in files:
        file.close()
    assert {one.read_bytes() for one in tmp_path.iterdir()} == {b""}
