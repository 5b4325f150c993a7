"""The scheduler: at start and every so many seconds it lapses exceptions, notifies, delivers, polls."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta

import structlog
from apscheduler.schedulers.background import BackgroundScheduler

from doorstone.service.memory import exclude_lasting_objects
from doorstone.work.context.context import Context
from doorstone.work.due.notify import tell_due
from doorstone.work.exceptions.lapse import lapse
from doorstone.work.forecast.forecasts import look_ahead
from doorstone.work.notifications.webhooks import Mail, Post, carry_out
from doorstone.work.operations.history import forget_ended
from doorstone.work.people.people import keep_token_uses
from doorstone.work.readings.history import thin_history
from doorstone.work.snapshot.settling import roll
from doorstone.work.updates import Fetch, poll

log = structlog.get_logger("doorstone.rounds")


class Scheduler:
    """Runs `once` in a thread of its own. A round that takes long is not run twice at the same time."""

    def __init__(
        self,
        context: Context,
        post: Post,
        mail: Mail | None,
        seconds: int = 30,
        fetch: Fetch | None = None,
        poll_hours: int = 24,
    ) -> None:
        self.context, self.post, self.mail = context, post, mail
        self.fetch, self.every = fetch, timedelta(hours=poll_hours)
        context.rounds.seconds = seconds
        self._scheduler = BackgroundScheduler(timezone=UTC)
        self._scheduler.add_job(
            self._safely, "interval", seconds=seconds, next_run_time=datetime.now(UTC), max_instances=1, coalesce=True
        )

    def start(self) -> None:
        self._scheduler.start()

    def close(self) -> None:
        """Let the running round end, and write down what is held in memory only."""
        self._scheduler.shutdown(wait=True)
        with suppress(sqlite3.Error):
            keep_token_uses(self.context)

    def once(self) -> None:
        """One round. Deliveries go by real time, even where the service's own clock stands still."""
        with self.context.one_call():
            self._round()
        exclude_lasting_objects()

    def _round(self) -> None:
        steps: tuple[Callable[[Context], object], ...] = (
            roll, keep_token_uses, _lapse, tell_due, self._poll, self._deliver, thin_history, forget_ended, look_ahead,
            _anchor,
        )  # fmt: skip
        for step in steps:
            self.context.write_priority.give_way_to_pages()  # whoever waits for a page goes first
            step(self.context)

    def _poll(self, context: Context) -> None:
        if self.fetch is not None:
            for device, what in poll(context, self.fetch, _real_time(), self.every).items():
                log.info("asked", device=device, what=what)

    def _deliver(self, context: Context) -> None:
        carry_out(context, _real_time(), self.post, self.mail)

    def _safely(self) -> None:
        try:
            self.once()
            self.context.rounds.failed = ""
        except Exception as error:
            self.context.rounds.failed = f"{type(error).__name__}: {error}"
            log.error("round", exc_info=error)
        finally:
            self.context.rounds.ended_at = _real_time()
            self.context.database.close()


def _real_time() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


def _anchor(context: Context) -> None:
    context.database.write_anchor(context.now())


def _lapse(context: Context) -> None:
    for name in lapse(context):
        log.info("ended", exception=name)
