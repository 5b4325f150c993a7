"""Runs the service on a production WSGI server until it is told to stop, then finishes what it has begun."""

from __future__ import annotations

import gc
import logging
import signal
import sys
import threading
from types import FrameType

import structlog
from cheroot.wsgi import Server

from doorstone.service.app import create_app
from doorstone.service.carriers import ask_updates, http_post, smtp_mail
from doorstone.service.config import Config, open_desk, open_door, session_key
from doorstone.service.jobs import Jobs
from doorstone.service.rounds import Rounds


class BusyPortError(Exception):
    """The address is taken or not ours."""


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
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
    )


KEPT_OPEN = 200  # connections that wait for their next request; a browser has six
NEW_AT_ONCE = 128  # connections that may knock at the same time; one more is told to come back in a second


class Service:
    """A service that is ready to run: its records, its listener, its import worker and its scheduler.

    The address is taken when it is made; `look_every` is how many seconds pass between two looks whether to stop.
    Raises `BusyPortError` if the address cannot be had.
    """

    def __init__(self, config: Config, look_every: float = 0.5) -> None:
        self.desk = open_desk(config)
        self.jobs = Jobs(self.desk)
        fetch = ask_updates(config.update_service) if config.update_service else None
        self.rounds = Rounds(self.desk, http_post(), smtp_mail(config), config.round_seconds, fetch, config.poll_hours)
        app = create_app(self.desk, session_key(config), https=config.https, jobs=self.jobs, door=open_door(config))
        self._server = Server((config.host, config.port), app, numthreads=config.threads, server_name="doorstone")
        self._server.shutdown_timeout = 20
        self._server.expiration_interval = look_every
        self._server.keep_alive_conn_limit = KEPT_OPEN
        self._server.request_queue_size = NEW_AT_ONCE
        try:
            self._server.prepare()
        except OSError as error:
            raise BusyPortError(f"{config.host}:{config.port} cannot be had: {error}") from error

    @property
    def address(self) -> str:
        host, port = self._server.bind_addr[:2]
        return f"http://{host}:{port}"

    def run(self) -> None:
        """Answer requests until `stop` is called from another thread; then finish what was begun."""
        try:
            self._server.serve()
        finally:
            self.jobs.close()

    def stop(self) -> None:
        """Answer what has come in, and take nothing more."""
        self.jobs.halted.set()
        self._server.stop()


def serve(config: Config, *, quiet: bool = False) -> None:
    """Serve until SIGTERM or SIGINT. Raises `BusyPortError` if the address cannot be had."""
    set_up_logging(quiet=quiet)
    log = structlog.get_logger("doorstone.serve")
    if config.password_cost == "tests":
        log.warning("weak passwords", setting="password_cost", hint="Leave it out, except in test runs")
    service = Service(config)

    def stop(number: int, frame: FrameType | None) -> None:
        log.info("stopping", signal=signal.Signals(number).name)
        threading.Thread(target=service.stop, name="stop").start()

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    logging.getLogger("apscheduler").setLevel(logging.ERROR)
    service.rounds.start()
    gc.collect()
    gc.freeze()  # what is there now stays: nobody need look through it again
    gc.set_threshold(20_000, 20, 50)
    sys.setswitchinterval(0.001)  # many short answers beside one long import
    log.info("listening", address=service.address, data=str(config.data))
    service.run()
    service.rounds.close()
    log.info("stopped")
