"""The listener: one thread reads and writes every connection, lanes of workers answer what has come whole.

A request reaches a worker only once its last byte has come, so that whoever drips bytes holds no worker; one that does
not come whole in time is closed. A body that ends before its announced length never reaches the application. Health
has a lane of its own, and so have streams and writes. Short requests are answered one after the other by the same
thread: threads that compute at the same time take the interpreter's lock from one another, which costs more than it
gains.
"""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from typing import Any

from waitress import create_server, wasyncore
from waitress.channel import HTTPChannel
from waitress.task import ThreadedTaskDispatcher

HEADER_SECONDS = 15
"""Until a request's head has come."""
BODY_SECONDS = 60
"""Until a body has come, and a second more for each of so many bytes."""
BODY_RATE = 64 * 1024
MOST_CONNECTIONS = 1_000
STREAMS = 16
"""Workers for streams: so many are watched at once, and one more is told to come back later."""
WRITERS = 16
"""Workers for requests that write, at most: these wait for one another, and behind no page."""
_FINISH_SECONDS = 20
LONG = 0.01
"""Seconds after which a request lets another be answered beside it."""


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
        """Whether a request may be taken: no other is answered, or all that are take long."""
        long_ago = time.monotonic() - LONG
        return all(began <= long_ago for began in self._began.values())

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
    """A connection for which the listener waits while a worker writes to it, instead of asking again and again."""

    def writable(self) -> bool:
        if self.requests and self.total_outbufs_len:
            with self.outbuf_lock:  # held while a worker hands over to the system what that takes at once
                pass
        return bool(super().writable())


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
        self, app: Callable[..., Any], host: str, port: int, threads: int, largest: int, look_every: float = 0.5
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
            connection_limit=MOST_CONNECTIONS,
            channel_timeout=120,
            clear_untrusted_proxy_headers=False,
            channel_request_lookahead=1,
            asyncore_use_poll=True,
        )
        self._server.channel_class = _Channel
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
