"""Runs the service on a production WSGI server until it is stopped. What it has begun is finished first."""

from __future__ import annotations

import fcntl
import logging
import os
import resource
import signal
import sys
import threading
from contextlib import suppress
from pathlib import Path
from types import FrameType
from typing import BinaryIO, TextIO, cast

import structlog

from doorstone.service.admission import LARGEST_UPLOAD, Admission
from doorstone.service.app import create_app
from doorstone.service.config import Config, open_auth_settings, open_context, session_key
from doorstone.service.import_worker import ImportWorker
from doorstone.service.listener import Listener
from doorstone.service.memory import set_up_memory
from doorstone.service.outbound import ask_updates, http_post, smtp_mail
from doorstone.service.scheduler import Scheduler
from doorstone.store.database import DamagedError
from doorstone.work.context.context import Context
from doorstone.work.snapshot.settling import roll

__all__ = ["BusyFolderError", "BusyPortError", "DamagedError", "Service", "serve"]


class BusyPortError(Exception):
    """The address is taken, or this process may not use it."""


class _Log:
    """A stream for the log. A line that cannot be written, as on a full disk, is left out: no request fails for it."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> None:
        with suppress(OSError):
            self._stream.write(text)

    def flush(self) -> None:
        with suppress(OSError):
            self._stream.flush()


def set_up_logging(*, quiet: bool = False) -> None:
    """One JSON object a line on standard error; `quiet` leaves out what is not a warning."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.WARNING if quiet else logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(file=cast(TextIO, _Log(sys.stderr))),
        cache_logger_on_first_use=True,
    )


class BusyFolderError(Exception):
    """Another service uses the data folder."""


class Service:
    """A service that is ready to run: its records, its listener, its import worker and its scheduler.

    The data folder is locked before anything in it is read, then the address is taken, and only then is what a stopped
    service left taken up again. `look_every` is how many seconds pass between two looks whether to stop.
    Raises `BusyFolderError`, `BusyPortError`, `DamagedError`.
    """

    def __init__(self, config: Config, look_every: float = 0.5) -> None:
        self._lock = _lock(config.data)
        self.context = open_context(config)
        self.context.database.check()
        _note_clock(self.context)
        roll(self.context)
        self.jobs = ImportWorker(self.context)
        fetch = ask_updates(config.update_service) if config.update_service else None
        post = http_post(config.webhook_targets)
        self.rounds = Scheduler(self.context, post, smtp_mail(config), config.round_seconds, fetch, config.poll_hours)
        app = create_app(
            self.context,
            session_key(config),
            https=config.https,
            jobs=self.jobs,
            settings=open_auth_settings(config),
            proxies=config.trusted_proxies,
        )
        admission = Admission(
            app,
            self.context,
            requests=config.requests_per_address,
            connections=config.connections_per_address,
            proxies=config.trusted_proxies,
        )
        try:
            self._listener = Listener(
                app, config.host, config.port, config.threads, LARGEST_UPLOAD, admission.gate, look_every
            )
        except OSError as error:
            raise BusyPortError(f"{config.host}:{config.port} cannot be had: {error}") from error
        self.jobs.resume()

    @property
    def address(self) -> str:
        return self._listener.address

    def run(self) -> None:
        """Answer requests until `stop` is called from another thread. Then finish the requests that have begun."""
        try:
            self._listener.run()
        finally:
            self.jobs.close()
            self._lock.close()

    def stop(self) -> None:
        """Finish the requests that have come in, and accept no more."""
        self.jobs.halted.set()
        self._listener.stop()


def _lock(data: Path) -> BinaryIO:
    """Hold the data folder for this process until the file is closed."""
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    file = (data / "lock").open("ab")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        file.close()
        raise BusyFolderError(f"Another service works in {data}") from error
    return file


def _note_clock(context: Context) -> None:
    """Warn if the clock is behind the latest time in the ledger."""
    last = context.floor()
    if last and context.today() < last:
        structlog.get_logger("doorstone.serve").warning(
            "clock went back",
            today=str(context.today()),
            ledger=str(last),
            hint="Set the clock; expired tokens stay expired",
        )


def _allow_files() -> None:
    """Let this process open as many files as the system allows: each connection is one."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


def serve(config: Config, *, quiet: bool = False) -> None:
    """Serve until SIGTERM or SIGINT. Raises `BusyPortError` if the address cannot be had."""
    set_up_logging(quiet=quiet)
    log = structlog.get_logger("doorstone.serve")
    if config.password_cost == "tests":
        log.warning("weak passwords", setting="password_cost", hint="Leave it out, except in test runs")
    os.umask(0o077)
    set_up_memory()
    _allow_files()
    service = Service(config)

    def stop(number: int, frame: FrameType | None) -> None:
        log.info("stopping", signal=signal.Signals(number).name)
        threading.Thread(target=service.stop, name="stop").start()

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    logging.getLogger("apscheduler").setLevel(logging.ERROR)
    service.rounds.start()
    log.info("listening", address=service.address, data=str(config.data))
    service.run()
    service.rounds.close()
    log.info("stopped")
