"""Who acts: a person, their role, and the receipt of their call."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field


class Receipt(Struct, frozen=True):
    """The Idempotency-Key of a creating call and a fingerprint of what was asked."""

    key: str
    fingerprint: str


class Actor(Struct, frozen=True):
    """Who does it: a person, the role they act in, and through what (console, token, local).

    An actor is made once, at authentication, and from then on only narrowed with `replace`.
    `sites` maps site -> the greater role that they have there. `device` is the only one that they may speak of.
    `session`: a person who has signed in, or the token of their own command line, who may manage tokens and profile.
    """

    name: str
    role: str
    via: str
    receipt: Receipt | None = None
    sites: Mapping[str, str] = field(default_factory=dict)
    device: str = ""
    session: bool = False
    in_place_of: str = ""
    """The person whose deputy acts here, in that person's role."""

    @property
    def authority(self) -> str:
        """In whose name the actor decides: their own, or that of the person they act for."""
        return self.in_place_of or self.name
