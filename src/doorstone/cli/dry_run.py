"""Whether the command that runs is rehearsed; a module of its own, so that help loads no library."""

from __future__ import annotations

from contextvars import ContextVar

DRY_RUN: ContextVar[bool] = ContextVar("dry_run", default=False)
