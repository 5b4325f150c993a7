"""What a rule of the job refuses. `work` turns these into its own errors; see `work/context/errors.py`."""

from __future__ import annotations


class RuleError(ValueError):
    """`detail` says in one sentence what is wrong, `hint` what to do instead."""

    def __init__(self, detail: str, hint: str) -> None:
        super().__init__(f"{detail}. {hint}")
        self.detail = detail
        self.hint = hint


class InvalidInputError(RuleError):
    """What was given cannot be meant: a date before another, a word that is none of those that are known."""


class UnknownObjectError(RuleError):
    """There is no object of the name that was given."""


class MoveRefusedError(RuleError):
    """A move that may not be made as things stand."""
