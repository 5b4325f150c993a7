"""The import worker: runs imports one after the other, beside the requests."""

from __future__ import annotations

import threading
from concurrent.futures import Future, ThreadPoolExecutor

import structlog

from doorstone.work.context.context import Context
from doorstone.work.context.errors import NoRoomError
from doorstone.work.readings import import_job

MOST_WATCHERS = 16
"""Streams of events at the same time; one more is told to come back later."""
log = structlog.get_logger("doorstone.jobs")


class ImportWorker:
    """Runs imports in the order in which they come. `resume` takes up again what a stopped service left.

    On a full disk an import waits, and is tried again every `wait_for_room` seconds.
    """

    def __init__(self, context: Context, wait_for_room: float = 5.0) -> None:
        self.context, self.wait_for_room = context, wait_for_room
        self.halted = threading.Event()
        self.watchers = threading.BoundedSemaphore(MOST_WATCHERS)
        self._worker = ThreadPoolExecutor(1, thread_name_prefix="import")

    def resume(self) -> None:
        """Run the imports that a stopped service left."""
        for name in import_job.resume(self.context):
            self.run(name)

    def run(self, name: str) -> Future[None]:
        """Run an import when its turn comes."""
        return self._worker.submit(self._run, name)

    def _run(self, name: str) -> None:
        try:
            while not self._once(name):
                if self.halted.wait(self.wait_for_room):
                    return
        except Exception as error:
            log.error("import", id=name, exc_info=error)

    def _once(self, name: str) -> bool:
        """Run an import as far as it goes. Returns whether it is over, and not waiting for room on the disk."""
        try:
            ended = import_job.run(self.context, name, self.halted.is_set)
        except NoRoomError as error:
            log.warning("import waits", id=name, fault=error.detail)
            return False
        log.info("import", id=name, state=ended.row.state, readings=ended.row.readings)
        return True

    def close(self) -> None:
        """Let the running import reach its next safe place. The rest is left to the next start."""
        self.halted.set()
        self._worker.shutdown(wait=True, cancel_futures=True)
