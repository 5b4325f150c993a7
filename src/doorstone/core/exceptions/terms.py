"""Terms: what a request for an exception has to say, and what may be renewed.

In: what was given, the organisation's policy, a day. Out: nothing, or an error that says what to correct.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import date, timedelta

from doorstone.core.errors import InvalidInputError, MoveRefusedError
from doorstone.core.exceptions.life import ExceptionState

RENEWABLE = frozenset({ExceptionState.APPROVED, ExceptionState.LAPSED})
LONGEST_LINK = 1000


def check_dates(start: date, expiry: date, review: date, most_days: int) -> None:
    """Start <= review <= expiry, and no longer than `most_days`. Raises `InvalidInputError`."""
    if expiry < start:
        raise InvalidInputError(f"Expiry {expiry} lies before the start {start}", "Choose a later expiry")
    if not start <= review <= expiry:
        raise InvalidInputError(f"Review {review} lies outside {start} to {expiry}", "Choose a review date in between")
    if expiry - start > timedelta(days=most_days):
        last = start + timedelta(days=most_days)
        raise InvalidInputError(
            f"Expiry {expiry} is more than {most_days} days after the start", f"Choose {last} or earlier"
        )


def check_reason(reason: str, owner: str) -> None:
    """Raises `InvalidInputError` unless there is a reason and somebody who answers for the exception."""
    if len(reason.strip()) < 10:
        raise InvalidInputError(
            "The reason is too short", "Say in a sentence why the device cannot be fixed or replaced"
        )
    if not owner.strip():
        raise InvalidInputError("An exception has an owner", "Name the person who answers for it")


def check_expiry(expiry: date, as_of: date) -> None:
    """Raises `InvalidInputError` for a last day that lies in the past."""
    if expiry < as_of:
        raise InvalidInputError(f"The expiry {expiry} is past", "Choose a day from today on")


def check_required(required: Collection[str], has: Collection[str]) -> None:
    """Raises `InvalidInputError` if a request lacks a field that the organisation asks for."""
    if lacking := [name for name in required if name not in has]:
        raise InvalidInputError(f"A request here has {' and '.join(lacking)}", "Add what is missing")


def check_attested(pointer: str, text: str, due: date, every_days: int | None, start: date, expiry: date) -> None:
    """A condition that people attest: 3 to 500 characters, due within the exception, again after 1 to 366 days.

    Raises `InvalidInputError` that names `pointer`.
    """
    if not 3 <= len(text) <= 500 or not text.isprintable():
        raise InvalidInputError(f"{pointer}: it says nothing or too much", "Say in 3 to 500 letters what is to be kept")
    if not start <= due <= expiry:
        raise InvalidInputError(f"{pointer}: {due} lies outside {start} to {expiry}", "Choose a day in between")
    if every_days is not None and not 1 <= every_days <= 366:
        raise InvalidInputError(f"{pointer}: every {every_days} days cannot be", "Use 1 to 366 days")


def check_attachment(title: str, link: str, sha256: str = "") -> None:
    """A title, a link that a browser opens, and the SHA-256 of what is there, if it is known."""
    if not 1 <= len(title.strip()) <= 200 or not title.isprintable():
        raise InvalidInputError("An attachment has a title", "Say in up to 200 letters what it is")
    if not link.startswith(("https://", "http://")) or not link.isprintable() or len(link) > LONGEST_LINK:
        raise InvalidInputError(f"{link[:80]!r} is no link", "Give an address that starts with https://")
    if sha256 and (len(sha256) != 64 or set(sha256) - set("0123456789abcdef")):
        raise InvalidInputError("The SHA-256 is not one", "Give 64 hexadecimal digits, or leave it out")


def check_renewal(
    name: str, state: ExceptionState, renewed_by: str, devices: Collection[str], renewed_devices: Collection[str]
) -> None:
    """Whether the exception `name` may be renewed for `devices`; `renewed_devices` are those that it names.

    Raises `MoveRefusedError` if it is not in a state for it or has a successor; `InvalidInputError` for other devices.
    """
    if state not in RENEWABLE:
        raise MoveRefusedError(f"{name} is {state}; there is nothing to renew", "Ask without renewing")
    if renewed_by:
        raise MoveRefusedError(f"{name} is renewed by {renewed_by}", "Look at that one")
    if extra := sorted(set(devices) - set(renewed_devices)):
        raise InvalidInputError(f"{name} does not name {listed(extra)}", "Renew its devices, ask anew for others")


def listed(devices: Collection[str]) -> str:
    """Up to three devices by name, more as a number."""
    return ", ".join(devices) if len(devices) <= 3 else f"{len(devices)} devices"
