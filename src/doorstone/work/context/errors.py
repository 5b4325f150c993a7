"""What can stand in the way of a use case. The edges turn these into problem documents and exit codes.

WorkError
  BadInputError     what was given cannot be read or meant
  MissingError      there is no such object
  RefusedError      a rule of the job forbids it
  StaleEditError    somebody else changed it in the meantime
  ReusedKeyError    an Idempotency-Key was used for something else before
  NoRoomError       the disk is full
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from msgspec import Struct

from doorstone.core.errors import InvalidInputError, MoveRefusedError, UnknownObjectError


class ErrorEntry(Struct, frozen=True):
    """One place where something is wrong: a line and column, or a device and requirement; and the hint.

    `device` is the one that it concerns, where it does.
    """

    pointer: str
    detail: str
    hint: str
    device: str = ""


class WorkError(Exception):
    """`detail` says what is wrong in one sentence, `hint` what to do, `errors` each place."""

    def __init__(self, detail: str, hint: str = "", errors: Sequence[ErrorEntry] = ()) -> None:
        super().__init__(f"{detail}. {hint}".strip())
        self.detail = detail
        self.hint = hint
        self.errors = tuple(errors)


class BadInputError(WorkError):
    pass


class MissingError(WorkError):
    pass


class RefusedError(WorkError):
    pass


class StaleEditError(WorkError):
    pass


class ReusedKeyError(WorkError):
    pass


class NoRoomError(WorkError):
    """The disk is full. `kept` is the object that waits and goes on once there is space; empty if there is none."""

    def __init__(self, detail: str, hint: str, kept: str = "") -> None:
        super().__init__(detail, hint)
        self.kept = kept


@contextmanager
def rules() -> Iterator[None]:
    """Inside, errors of core become `BadInputError`, `MissingError` or `RefusedError`."""
    try:
        yield
    except InvalidInputError as error:
        raise BadInputError(error.detail, error.hint) from error
    except UnknownObjectError as error:
        raise MissingError(error.detail, error.hint) from error
    except MoveRefusedError as error:
        raise RefusedError(error.detail, error.hint) from error
