"""Settings of authentication: how long a session lasts, how often a sign-in may fail, which provider is asked."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from limits import RateLimitItem, parse
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

_FIRST = parse("1/5minutes")


class Throttle:
    """Counts sign-ins in a moving window, per account and per address, before any password is checked.

    A sign-in that succeeds gives the account its tries back.
    """

    def __init__(self, per_account: int = 5, per_address: int = 60) -> None:
        self._limiter = MovingWindowRateLimiter(MemoryStorage())
        self._per_name = parse(f"{per_account}/5minutes")
        self._per_address = parse(f"{per_address}/5minutes")

    def wait(self, name: str, address: str) -> int:
        """Count one try. Returns the seconds until another try is allowed; 0 if this one is."""
        keys = self._keys(name, address)
        closed = [key for key in keys if not self._limiter.hit(*key)]
        if not closed:
            return 0
        resets = [self._limiter.get_window_stats(*key).reset_time for key in closed]
        return max(1, round(max(resets) - time.time()))

    def is_news(self, name: str, address: str) -> bool:
        """Whether a refusal is the first of its window; of those that follow, no record is kept."""
        return self._limiter.hit(_FIRST, f"refused {name.casefold()} {address}")

    def succeeded(self, name: str, address: str) -> None:
        self._limiter.clear(*self._keys(name, address)[0])

    def _keys(self, name: str, address: str) -> list[tuple[RateLimitItem, str]]:
        return [(self._per_name, f"name {name.casefold()}"), (self._per_address, f"address {address}")]


@dataclass(frozen=True, slots=True)
class OidcProvider:
    """An OpenID Connect provider to sign in through. `groups` maps group -> role.

    With `domains`, only people with a verified mail address in one of them get in.
    """

    issuer: str
    client_id: str
    client_secret: str = field(default="", repr=False)
    name_claim: str = "preferred_username"
    groups_claim: str = "groups"
    groups: Mapping[str, str] = field(default_factory=dict)
    domains: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class AuthSettings:
    """`address` is where people reach the service; it is told to the provider. `https` marks cookies Secure."""

    session: timedelta = timedelta(hours=12)
    idle: timedelta = timedelta(minutes=60)
    address: str = ""
    https: bool = False
    provider: OidcProvider | None = None
    throttle: Throttle = field(default_factory=Throttle)
