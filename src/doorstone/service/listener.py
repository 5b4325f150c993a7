"""The listener: one thread reads and writes every connection, lanes of workers answer what has come whole.

A request reaches a worker only once its last byte has come, so that whoever drips bytes holds no worker; one that does
not come whole in time is closed. Whether a request is taken at all, and how large it may be, is decided once its head
has come and before any of its body is kept. A body that ends before its announced length never reaches the application.
Where there are too many connections, one that is not at work makes room for the next. Health
has a lane of its own, and so have streams and writes. Short requests are answered one after the other by the same
thread: threads that compute at the same time take the interpreter's lock from one another, which costs more than it
gains.
"""

from __future__ import annotations

import errno
import socket
import threading
import time
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any, NamedTuple

from waitress import create_server, wasyncore
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.task import ThreadedTaskDispatcher
from waitress.utilities import Error, RequestEntityTooLarge

HEADER_SECONDS = 15
"""Until a request's head has come."""
BODY_SECONDS = 60
"""Until a body has come, and a second more for each of so many bytes."""
BODY_RATE = 64 * 1024
MOST_CONNECTIONS = 1_000
DRAIN_SECONDS = 2
"""For which a refused request is still read, and thrown away, so that whoever sends it sees the answer."""
STREAMS = 16
"""Workers for streams: so many are watched at once, and one more is told to come back later."""
WRITERS = 16
"""Workers for requests that write, at most: these wait for one another, and behind no page."""
_FINISH_SECONDS = 20
AT_WORK = 4
"""Reading requests that are answered at the same time, at most: more would take the interpreter from an import."""
LONG = 0.01
"""Seconds after which a request lets another be answered beside it."""


class Head(NamedTuple):
    """The head of a request. `headers` are by their names in capitals with underscores; `length` is None if unknown."""

    method: str
    path: str
    address: str
    headers: Mapping[str, str]
    length: int | None


class Refused(Error):  # type: ignore[misc]  # noqa: N818 - an answer, not an exception
    """An answer that is given in place of reading the request."""

    def __init__(self, status: int, reason: str, headers: list[tuple[str, str]], body: bytes) -> None:
        super().__init__(body)
        self.code, self.reason, self._headers = status, reason, headers

    def to_response(self, _: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        return f"{self.code} {self.reason}", self._headers, self.body


class Gate(NamedTuple):
    """What decides about requests before they are read.

    `admit` gives the bytes that a body may have, or an answer to give at once. `too_large` and `no_room` make the
    answers to a body that turns out to be larger, and to one that the disk cannot take. `per_address` is the number of
    connections that one address may have, 0 for any; `crowded` answers one more while all are at work.
    """

    admit: Callable[[Head], int | Refused]
    too_large: Callable[[str, int], Refused]
    no_room: Callable[[str], Refused]
    crowded: Refused
    per_address: int = 0


def _open_gate(largest: int) -> Gate:
    """A gate that lets everything in that is not larger than so many bytes."""
    large = Refused(413, "Content Too Large", [], b"")
    full = Refused(507, "Insufficient Storage", [], b"")
    return Gate(lambda head: largest, lambda path, most: large, lambda path: full, full)


class _Parser(HTTPRequestParser):  # type: ignore[misc]
    """Reads a request as long as the gate lets it."""

    def __init__(self, gate: Gate, address: str, settings: Any) -> None:
        super().__init__(settings)
        self._gate, self._address = gate, address
        self._largest: int | None = None

    def received(self, data: bytes) -> int:
        try:
            used = int(super().received(data))
        except OSError as error:
            if error.errno not in (errno.ENOSPC, errno.EDQUOT):
                raise
            self._refuse(self._gate.no_room(self.path))
            return len(data)
        if self._readable():
            if self._largest is None:
                self._ask()
            elif self.body_bytes_received > self._largest:
                self._refuse(self._gate.too_large(self.path, self._largest))
        return used

    def _readable(self) -> bool:
        """Whether the head has come and can be read; a body that is announced as too large is the gate's matter."""
        large = self.error is None or type(self.error) is RequestEntityTooLarge
        return self.headers_finished and not self.empty and large

    def _ask(self) -> None:
        length = None if self.chunked else self.content_length
        head = Head(self.command.upper(), self.path, self._address, self.headers, length)
        found = self._gate.admit(head)
        if isinstance(found, Refused):
            self._refuse(found)
        elif length is not None and length > found:
            self._refuse(self._gate.too_large(self.path, found))
        else:
            self._largest = found

    def _refuse(self, answer: Refused) -> None:
        self.error = answer
        self.completed = True
        self.expect_continue = False  # nothing more is wanted


class _OneByOne(ThreadedTaskDispatcher):  # type: ignore[misc]
    """Workers of which one is at work at a time, and another beside each whose request takes long.

    A worker that is done takes the next request itself. While requests wait, one idle worker watches for long ones.
    """

    def __init__(self) -> None:
        super().__init__()
        self._began: dict[int, float] = {}  # worker -> when it took its request
        self._watched = False

    def add_task(self, task: Any) -> None:
        with self.lock:
            self.queue.append(task)
            if self._room() or not self._watched:
                self.queue_cv.notify()

    def _room(self) -> bool:
        """Whether a request may be taken: the ones at work, if any, all take long and are fewer than `AT_WORK`."""
        long_ago = time.monotonic() - LONG
        return len(self._began) < AT_WORK and all(began <= long_ago for began in self._began.values())

    def _take(self, worker: int) -> Any:
        """The next request for a worker, once there is one and room for it; None if the worker is to end."""
        with self.lock:
            self._began.pop(worker, None)
            while not self.stop_count and not (self.queue and self._room()):
                watches = bool(self.queue) and not self._watched
                self._watched |= watches
                self.queue_cv.wait(LONG if watches else None)
                self._watched &= not watches
            if self.stop_count:
                self.stop_count -= 1
                self.threads.discard(worker)
                self.thread_exit_cv.notify()
                return None
            self._began[worker] = time.monotonic()
            task = self.queue.popleft()
            if self.queue and not self._watched:
                self.queue_cv.notify()
            return task

    def handler_thread(self, worker: int) -> None:
        while (task := self._take(worker)) is not None:
            try:
                task.service()
            except BaseException:  # as in waitress: whatever a request does, its worker goes on
                self.logger.exception("Exception when servicing %r", task)


class _Channel(HTTPChannel):  # type: ignore[misc]
    """A connection for which the listener waits while a worker writes to it, instead of asking again and again.

    After a request was refused, what still comes is read and thrown away for a moment: closed at once, the connection
    would be torn down under the answer.
    """

    gate: Gate
    drains_until = 0.0
    _refused = False

    def __init__(self, server: Any, sock: Any, addr: Any, adj: Any, map: Any = None) -> None:
        super().__init__(server, sock, addr, adj, map=map)
        self.parser_class = partial(_Parser, self.gate, str(addr[0]))
        _make_room(server, self, self.gate.per_address)

    def writable(self) -> bool:
        if self.drains_until:
            return False
        if self.requests and self.total_outbufs_len:
            with self.outbuf_lock:  # held while a worker hands over to the system what that takes at once
                pass
        return bool(super().writable())

    def readable(self) -> bool:
        return bool(self.drains_until) or bool(super().readable())

    def handle_read(self) -> None:
        if not self.drains_until:
            super().handle_read()
            return
        try:
            if not self.recv(self.adj.recv_bytes) or time.monotonic() > self.drains_until:
                self.handle_close()
        except OSError:
            self.handle_close()

    def service(self) -> None:
        self._refused = bool(self.requests) and isinstance(self.requests[0].error, Refused)
        super().service()

    def handle_close(self) -> None:
        if self._refused and not self.drains_until and self.connected:
            self.will_close, self.drains_until = False, time.monotonic() + DRAIN_SECONDS
            try:
                self.socket.shutdown(socket.SHUT_WR)
            except OSError:
                super().handle_close()
            return
        super().handle_close()


def _make_room(server: Any, new: _Channel, per_address: int) -> None:
    """Close a connection that is not at work where this one is one too many: of its address, or in all.

    The first to go is one whose head has not come, then one that waits for its next request, then one whose body
    comes; of equal ones the one that did nothing for longest.
    """
    channels = [one for one in list(server.active_channels.values()) if one is not new]
    mine = [one for one in channels if one.addr[0] == new.addr[0]]
    crowd = mine if per_address and len(mine) >= per_address else channels if len(channels) >= MOST_CONNECTIONS else []
    if not crowd:
        return
    idle = [one for one in crowd if not (one.requests or one.total_outbufs_len)]
    if not idle:
        status, headers, body = new.gate.crowded.to_response()
        lines = [f"HTTP/1.1 {status}", *(f"{name}: {value}" for name, value in headers), "Connection: close", "", ""]
        new.send("\r\n".join(lines).encode() + body)
    (min(idle, key=_worth) if idle else new).handle_close()


def _worth(channel: Any) -> tuple[int, float]:
    request = channel.request
    stage = 1 if request is None else 2 if request.headers_finished else 0
    return stage, channel.last_activity


class _Lanes(_OneByOne):
    """Workers for requests that read, others for those that write, one for health, some for streams."""

    def __init__(self, threads: int) -> None:
        super().__init__()
        self._writes, self._health, self._streams = (ThreadedTaskDispatcher() for _ in range(3))
        self._writes.set_thread_count(min(threads, WRITERS))
        self._health.set_thread_count(1)
        self._streams.set_thread_count(STREAMS + 1)
        self.set_thread_count(threads)

    def add_task(self, task: Any) -> None:
        request = task.requests[0] if getattr(task, "requests", None) else None
        path, method = str(getattr(request, "path", "")), getattr(request, "command", "GET")
        if path in ("/healthz", "/readyz"):
            self._health.add_task(task)
        elif path.endswith("/events"):
            self._streams.add_task(task)
        elif method not in ("GET", "HEAD"):
            self._writes.add_task(task)
        else:
            super().add_task(task)

    @property
    def at_work(self) -> bool:
        """Whether a worker of any lane is still running."""
        return any(lane.threads for lane in (self, self._writes, self._health, self._streams))

    def shutdown(self, cancel_pending: bool = True, timeout: float = 5) -> bool:
        for lane in (self._writes, self._health, self._streams):
            lane.shutdown(cancel_pending, timeout)
        return bool(super().shutdown(cancel_pending, timeout))


class Listener:
    """A WSGI application on an address. Raises `OSError` if the address cannot be had."""

    def __init__(
        self,
        app: Callable[..., Any],
        host: str,
        port: int,
        threads: int,
        largest: int,
        gate: Gate | None = None,
        look_every: float = 0.5,
    ) -> None:
        self._map: dict[int, Any] = {}
        self._lanes = _Lanes(threads)
        family, kind, protocol, _, place = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        taken = socket.socket(family, kind, protocol)
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            taken.bind(place)
        except OSError:
            taken.close()
            raise
        self._server = create_server(
            app,
            map=self._map,
            _dispatcher=self._lanes,
            sockets=[taken],
            ident="doorstone",
            max_request_body_size=largest,
            connection_limit=2 * MOST_CONNECTIONS,  # never reached: see `_make_room`
            channel_timeout=120,
            clear_untrusted_proxy_headers=False,
            channel_request_lookahead=1,
            asyncore_use_poll=True,
        )
        self._server.channel_class = type("_GatedChannel", (_Channel,), {"gate": gate or _open_gate(largest)})
        self._look_every = look_every
        self._stopping = threading.Event()
        self._ending = threading.Lock()
        self._ended = False
        self._began: dict[int, tuple[Any, float]] = {}

    @property
    def address(self) -> str:
        return f"http://{self._server.effective_host}:{self._server.effective_port}"

    def run(self) -> None:
        """Answer requests until `stop` is called from another thread, and then what has come in before."""
        while not self._stopping.is_set():
            wasyncore.loop(timeout=self._look_every, use_poll=True, map=self._map, count=1)
            self._close_late_ones()
        self._server.accepting = False
        self._server.del_channel(self._map)
        self._server.socket.close()
        until = time.monotonic() + _FINISH_SECONDS
        while time.monotonic() < until and any(self._busy(one) for one in self._channels()):
            wasyncore.loop(timeout=0.05, use_poll=True, map=self._map, count=1)
        self._lanes.shutdown(timeout=1)
        with self._ending:
            self._ended = True
            for one in list(self._map.values()):
                # A thread that is still at work wakes the loop once it is done: its pipe must not become another's.
                if one is not self._server.trigger or not self._lanes.at_work:
                    one.close()

    def stop(self) -> None:
        with self._ending:
            self._stopping.set()
            if not self._ended:
                self._server.pull_trigger()

    def _channels(self) -> list[Any]:
        return list(self._server.active_channels.values())

    @staticmethod
    def _busy(channel: Any) -> bool:
        return bool(channel.requests or channel.total_outbufs_len)

    def _close_late_ones(self) -> None:
        """Close connections whose request has not arrived completely in its time."""
        now = time.monotonic()
        for channel in self._channels():
            if 0 < channel.drains_until < now:
                channel.handle_close()
        coming = {id(one): one for one in self._channels() if one.request is not None}
        self._began = {
            key: held if (held := self._began.get(key)) and held[0] is one.request else (one.request, now)
            for key, one in coming.items()
        }
        for key, (request, since) in self._began.items():
            allowed = float(HEADER_SECONDS)
            if request.headers_finished:
                allowed = HEADER_SECONDS + BODY_SECONDS + request.body_bytes_received / BODY_RATE
            if now - since > allowed:
                coming[key].handle_close()
