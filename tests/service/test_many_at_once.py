"""Many who come at once: all are let in, and who has waited longest goes next."""

from __future__ import annotations

import selectors
import signal
import socket
import threading
import time
from pathlib import Path

import pytest

from doorstone.service.listener import Listener
from doorstone.work.context.write_priority import WritePriority
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
        thread.join(30)
    assert order == list(range(12))
    with write_priority.paging():  # the lane is free again
        assert write_priority.waiting == 0


def test_a_listener_that_has_ended_can_be_stopped_and_writes_into_no_file_of_others(tmp_path: Path) -> None:
    """The numbers of its pipe are given to the next files that are opened."""
    listener = Listener(lambda *_: [b""], "127.0.0.1", 0, threads=1, largest=1_000, look_every=0.01)
    thread = threading.Thread(target=listener.run)
    thread.start()
    listener.stop()
    thread.join(30)
    files = [(tmp_path / f"{number}").open("wb") for number in range(40)]
    listener.stop()
    for file in files:
        file.close()
    assert {one.read_bytes() for one in tmp_path.iterdir()} == {b""}
