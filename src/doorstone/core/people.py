"""Roles, in order: who covers whom."""

from __future__ import annotations

ROLES = ("viewer", "technician", "approver", "administrator")


REPORTER = "reporter"
"""The role of a token that may only post readings; no person has it."""


def rank(role: str) -> int:
    """Roles in order; technician and approver can do different things, so neither holds the other."""
    return {"viewer": 1, "technician": 2, "approver": 2, "administrator": 3}.get(role, 0)


def covers(role: str, other: str) -> bool:
    """Whether whoever has `role` may do all that `other` may."""
    return role == other or rank(role) > rank(other)


def token_roles(role: str) -> tuple[str, ...]:
    """The roles of tokens that whoever has `role` may issue."""
    return (*(one for one in ROLES if covers(role, one)), *((REPORTER,) if covers(role, "technician") else ()))


def both(role: str, other: str) -> str:
    """The greatest role that each of two holds; a technician and an approver have only viewing in common."""
    if covers(role, other):
        return other
    return role if covers(other, role) else "viewer"
