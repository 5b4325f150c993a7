"""Roles, in order: who covers whom."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date

from msgspec import Struct

from doorstone.core.errors import InvalidInputError

ROLES = ("viewer", "technician", "approver", "administrator")


REPORTER = "reporter"
"""The role of a token that may only post readings; no person has it."""


MOST_DAYS_DEPUTY = 92


class Deputy(Struct, frozen=True):
    """For these days `deputy` may act in place of `person`, in the person's role."""

    person: str
    deputy: str
    start: date
    end: date

    def in_force(self, day: date) -> bool:
        return self.start <= day <= self.end


def check_deputy(deputy: Deputy, reason: str, as_of: date) -> None:
    """Raises `InvalidInputError` for a deputy that cannot be named: wrong days, wrong people."""
    if deputy.person == deputy.deputy:
        raise InvalidInputError("Nobody is their own deputy", "Name another person")
    if not deputy.start <= deputy.end or deputy.end < as_of:
        raise InvalidInputError(f"{deputy.start} through {deputy.end} is no time to come", "Give days from today on")
    if (deputy.end - deputy.start).days >= MOST_DAYS_DEPUTY:
        words = f"{deputy.start} through {deputy.end} is longer than {MOST_DAYS_DEPUTY} days"
        raise InvalidInputError(words, "Name a deputy for a shorter time")
    if not 5 <= len(reason.strip()) <= 1000 or not reason.strip().isprintable():
        raise InvalidInputError("The reason cannot be used", "Say in a sentence why, without line breaks")


class AccountAct(Struct, frozen=True):
    """`by` created the account of `person`, or gained control of it: set its password, its subject, or removed its
    second factor."""

    by: str
    person: str


def people_behind(names: Iterable[str], acts: Iterable[AccountAct]) -> frozenset[str]:
    """These people, and the accounts that one of them created or gained control of."""
    given = frozenset(names)
    return given | {act.person for act in acts if act.by in given}


def not_separate(one: Iterable[str], other: Iterable[str], acts: Collection[AccountAct]) -> bool:
    """Whether the same person may stand behind two actions: one person controls accounts of both."""
    first, second = frozenset(one), frozenset(other)
    return bool(first & people_behind(second, acts) or second & people_behind(first, acts))


def check_active(name: str, active: Collection[str]) -> None:
    """Raises `InvalidInputError` unless `name` is one of those who have an active account."""
    if name not in active:
        known = ", ".join(sorted(active)) or "the people you add first"
        raise InvalidInputError(f"There is no active account named {name!r}", f"Name one of {known}")


def rank(role: str) -> int:
    """The place of a role in the order of roles. Technician and approver rank alike: neither may do all that the other
    may.
    """
    return {"viewer": 1, "technician": 2, "approver": 2, "administrator": 3}.get(role, 0)


def covers(role: str, other: str) -> bool:
    """Whether a person in `role` may do everything that a person in `other` may."""
    return role == other or rank(role) > rank(other)


def token_roles(role: str) -> tuple[str, ...]:
    """The roles of tokens that whoever has `role` may issue."""
    return (*(one for one in ROLES if covers(role, one)), *((REPORTER,) if covers(role, "technician") else ()))


def both(role: str, other: str) -> str:
    """The greatest role that two roles have in common. For technician and approver that is viewer."""
    if covers(role, other):
        return other
    return role if covers(other, role) else "viewer"
