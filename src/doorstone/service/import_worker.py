"""The import worker: runs imports one after the other, beside the requests."""

from __future__ import annotations

import threading
from concurrent.futures import Future, ThreadPoolExecutor

import structlog

from doorstone.work.context.context import Context
from doorstone.work.readings import import_job

MOST_WATCHERS = 16
"""Streams of events at the same time; one more is told to come back later."""
log = structlog.get_logger("doorstone.jobs")


class ImportWorker:
    """Runs imports in the order in which they come. `resume` takes up again what a stopped service left."""

    def __init__(self, context: Context) -> None:
        self.context = context
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
            ended = import_job.run(self.context, name, self.halted.is_set)
            log.info("import", id=name, state=ended.row.state, readings=ended.row.readings)
        except Exception as error:
            log.error("import", id=name, exc_info=error)

    def close(self) -> None:
        """Let the running import reach its next safe place. The rest is left to the next start."""
        self.halted.set()
        self._worker.shutdown(wait=True, cancel_futures=True)
