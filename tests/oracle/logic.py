"""Conditions as data: what they look at, and their outcome. Nothing of the product is used."""

from __future__ import annotations

from typing import Any

Facts = dict[str, Any]


def outcome(asked: Any, known: Facts) -> str:
    """met, unmet or unread, as Kleene's logic has it."""
    if asked is None:
        return "met"
    if "not" in asked:
        return {"met": "unmet", "unmet": "met", "unread": "unread"}[outcome(asked["not"], known)]
    for word, decides, neutral in (("all", "unmet", "met"), ("any", "met", "unmet")):
        if word in asked:
            parts = {outcome(part, known) for part in asked[word]}
            return decides if decides in parts else "unread" if "unread" in parts else neutral
    value = known.get(asked["fact"])
    if value is None:
        return "unread"
    op = next(key for key in asked if key != "fact")
    wanted = asked[op]
    holds = {
        "is": lambda: value == wanted,
        "is_not": lambda: value != wanted,
        "at_least": lambda: value >= wanted,
        "at_most": lambda: value <= wanted,
        "one_of": lambda: value in wanted,
    }[op]()
    return "met" if holds else "unmet"


def facts_of(asked: Any) -> set[str]:
    if asked is None:
        return set()
    if "fact" in asked:
        return {asked["fact"]}
    parts = [asked["not"]] if "not" in asked else asked.get("all") or asked.get("any")
    return set().union(*(facts_of(part) for part in parts))
