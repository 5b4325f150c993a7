"""Passwords: kept as Argon2id digests, checked by a bounded number of threads at a time.

One check takes tens of MiB for as long as it runs. However many people sign in at once, no more than `at_once` checks
run; the others wait for their turn.
"""

from __future__ import annotations

import hashlib
import threading
from functools import cache
from importlib import resources
from typing import Literal

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

Cost = Literal["standard", "tests"]


@cache
def _common() -> frozenset[str]:
    text = (resources.files("doorstone.work.context") / "common_passwords.txt").read_text("utf-8")
    return frozenset(line for line in text.splitlines() if line and not line.startswith("#"))


def weakness(password: str, *names: str) -> str:
    """Why a password is one of the first to be tried; empty if it is not. `names` are those of its person."""
    folded = password.casefold()
    bare = folded.rstrip("0123456789!?.,;:_-#*+ $%&/()").lstrip("0123456789!?.#*+ ")
    if {folded, bare} & _common():
        return "It is one of the passwords that are tried first"
    if len(set(folded)) < 4:
        return "It is made of the same few letters"
    own = {part for name in names for part in name.casefold().replace("-", " ").replace(".", " ").split()}
    if bare in own or bare == "".join(name.casefold() for name in names[:1]) * 2:
        return "It is the person's own name"
    return ""


class Passwords:
    """Hashes and checks passwords. The cost `tests` makes both quick and weak; only test runs may use it."""

    def __init__(self, cost: Cost = "standard", at_once: int = 2) -> None:
        weak = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
        self._hasher = weak if cost == "tests" else PasswordHasher()
        self._turns = threading.BoundedSemaphore(at_once)
        self._nobody: str | None = None

    def hash(self, password: str) -> str:
        """The digest to keep, with its own salt and parameters in it."""
        with self._turns:
            return self._hasher.hash(password)

    def fits(self, digest: str, password: str) -> bool:
        """Whether the password fits the digest. An empty digest takes as long to check and never fits."""
        try:
            with self._turns:
                self._hasher.verify(digest or self._of_nobody(), password)
        except (VerificationError, InvalidHashError):
            return False
        return bool(digest)

    def _of_nobody(self) -> str:
        if self._nobody is None:
            self._nobody = self._hasher.hash("nobody has this password")
        return self._nobody


def digest_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()
