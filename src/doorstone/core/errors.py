"""What a rule of the job refuses. `work` turns these into its own errors; see `work/context/errors.py`."""

from __future__ import annotations


class RuleError(ValueError):
    """`detail` says in one sentence what is wrong, `hint` what to do instead."""

    def __init__(self, detail: str, hint: str) -> None:
        super().__init__(f"{detail}. {hint}")
        self.detail = detail
        self.hint = hint


class InvalidInputError(RuleError):
    """The input makes no sense: a last day before the first, a word that is not one of the known ones."""


class UnknownObjectError(RuleError):
    """No object has this name."""


class MoveRefusedError(RuleError):
    """The object's present state does not allow this move."""
