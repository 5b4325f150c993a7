"""The condition language: what a requirement, a fix, an override or a gate asks of a device.

Decides met, unmet or unread in Kleene's three-valued logic, and explains itself leaf by leaf.
In: the data of a condition, fact specs, lists; then fact values and a day. Out: an outcome or an explanation.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, datetime
from decimal import Decimal
from difflib import get_close_matches
from enum import StrEnum
from functools import cached_property
from typing import Any

from msgspec import Struct

from doorstone.core.facts import FactError, FactSpec, FactType, FactValue, Version, View, dump


class Outcome(StrEnum):
    MET = "met"
    UNMET = "unmet"
    UNREAD = "unread"


class ConditionError(ValueError):
    """A condition that makes no sense. `path` leads to the place inside the condition."""

    def __init__(self, path: tuple[str | int, ...], message: str, hint: str) -> None:
        super().__init__(f"{message}. {hint}")
        self.path = path
        self.message = message
        self.hint = hint


class LeafReport(Struct, frozen=True):
    """One leaf, explained: what is required, what was measured, by whom, and how much is missing."""

    fact: str
    required: str
    measured: str | None
    outcome: Outcome
    shortfall: str | None = None
    source: str | None = None
    taken_at: datetime | None = None
    note: str | None = None
    level: float | None = None  # measured / required for numeric leaves, for drawing


class Leaf(Struct, frozen=True, dict=True):
    """One test of one fact. `operand` is already of the fact's type; `list_name` names the list it came from."""

    fact: str
    op: str
    operand: Any
    spec: FactSpec
    tolerance: float = 0.0
    list_name: str | None = None

    @cached_property
    def _facts(self) -> frozenset[str]:
        return frozenset((self.fact, self.operand) if self.op in _OF_TWO else (self.fact,))

    def outcome(self, values: Mapping[str, FactValue], as_of: date) -> Outcome:
        value = values.get(self.fact)
        if value is None:
            return Outcome.UNREAD
        if self.op in _OF_TWO:
            other: Any = values.get(self.operand)
            if other is None:
                return Outcome.UNREAD
            holds = value == other if self.op == "same_as" else other in value  # type: ignore[operator]
            return Outcome.MET if holds else Outcome.UNMET
        return Outcome.MET if self._holds(value, as_of) else Outcome.UNMET

    def _holds(self, value: Any, as_of: date) -> bool:
        match self.op:
            case "is":
                return bool(value == self.operand)
            case "is_not":
                return bool(value != self.operand)
            case "at_least":
                return float(value) >= float(self.operand) * (1 - self.tolerance)
            case "at_most":
                return float(value) <= float(self.operand) * (1 + self.tolerance)
            case "at_least_version":
                return bool(value >= self.operand)
            case "one_of" | "listed_in":
                return value in self.operand
            case "has_all":
                return bool(self.operand <= value)
            case "has_any":
                return bool(self.operand & value)
            case "within_days":
                day = value.date() if isinstance(value, datetime) else value
                return 0 <= (as_of - day).days <= int(self.operand)  # a day that is still to come has seen nothing
        raise AssertionError(self.op)

    def explain(self, view: View) -> LeafReport:
        outcome = self.outcome(view.values(), view.as_of)
        settled = view.facts.get(self.fact)
        if settled is None:
            aged = view.aged.get(self.fact)
            note = f"only a reading of {aged.taken_at.date()} ({aged.source}), too old" if aged else "never read"
            return LeafReport(self.fact, self.required(), None, outcome, note=note)
        believed = settled.believed
        missing, level = self._shortfall(believed.value, outcome)
        note = ""
        if outcome is Outcome.MET and self.op == "at_least" and float(self.operand) > float(believed.value):  # type: ignore[arg-type]
            note = f"below {self.spec.show(self.operand)} but within the tolerance of {self.tolerance:.0%}"
        if self.op in _OF_TWO and outcome is Outcome.UNREAD:
            note = f"{self.operand} was never read"
        return LeafReport(
            self.fact,
            self.required(),
            self.spec.show(believed.value),
            outcome,
            missing,
            believed.source,
            believed.taken_at,
            note or None,
            level,
        )

    def _shortfall(self, value: FactValue, outcome: Outcome) -> tuple[str | None, float | None]:
        if self.op in ("at_least", "at_most") and isinstance(value, int | float | Decimal):
            level = float(value) / float(self.operand) if float(self.operand) else None
            return self._gap(value) if outcome is Outcome.UNMET else None, level
        if outcome is not Outcome.UNMET:
            return None, None
        if self.op == "has_all" and isinstance(value, frozenset):
            return f"lacks {', '.join(sorted(self.operand - value))}", None
        return (f"not in {self.list_name}" if self.op == "listed_in" else None), None

    def _gap(self, value: float | Decimal) -> str:
        gap = abs(Decimal(str(self.operand)) - Decimal(str(value)))
        shown = gap.normalize() if isinstance(value, Decimal) else int(gap)
        return f"{self.spec.show(shown)} {'short' if self.op == 'at_least' else 'over'}"

    def required(self) -> str:
        """The demand in words: `at least 6,144 MiB`."""
        return self._in_words

    @cached_property
    def _in_words(self) -> str:
        show = self.spec.show
        match self.op:
            case "is":
                return show(self.operand)
            case "is_not":
                return f"not {show(self.operand)}"
            case "at_least" | "at_least_version":
                return f"at least {show(self.operand)}"
            case "at_most":
                return f"at most {show(self.operand)}"
            case "one_of":
                return "one of " + ", ".join(sorted(show(item) for item in self.operand))
            case "listed_in":
                return f"listed in {self.list_name}"
            case "has_all":
                return "all of " + ", ".join(sorted(self.operand))
            case "has_any":
                return "any of " + ", ".join(sorted(self.operand))
            case "same_as":
                return f"the same as {self.operand}"
            case "includes":
                return f"with {self.operand} among them"
        return f"within {self.operand} days"

    def facts(self) -> frozenset[str]:
        return self._facts

    def leaves(self) -> Iterator[Leaf]:
        yield self

    def data(self) -> dict[str, Any]:
        operand = self.operand
        if self.op == "listed_in":
            operand = self.list_name
        elif self.op == "one_of":
            operand = sorted(dump(item) for item in operand)
        elif isinstance(operand, frozenset | Version | Decimal | date):
            operand = dump(operand)
        data = {"fact": self.fact, self.op: operand}
        if self.tolerance:
            data["tolerance"] = f"{self.tolerance * 100:g}%"
        return data

    def __str__(self) -> str:
        return f"{self.fact} {self.required()}"


def in_full(condition: Condition) -> str:
    """A condition in words with its tolerances: `memory.mib at least 6,144 MiB (3% less will do)`."""
    words = str(condition)
    lacking = dict.fromkeys(
        f"{leaf.tolerance * 100:g}% {'more' if leaf.op == 'at_most' else 'less'} of {leaf.fact} will do"
        for leaf in condition.leaves()
        if leaf.tolerance
    )
    return f"{words} ({', '.join(lacking)})" if lacking else words


def order_free(condition: Condition) -> Any:
    """The data of a condition with the parts of `all` and `any` sorted, and without tolerances.

    Two conditions that ask the same in another order are equal in this form.
    """
    if isinstance(condition, Leaf):
        data = {name: value for name, value in condition.data().items() if name != "tolerance"}
        return {name: sorted(value) if isinstance(value, list) else value for name, value in data.items()}
    if isinstance(condition, Not):
        return {"not": order_free(condition.part)}
    word = "all" if isinstance(condition, All) else "any"
    return {word: sorted((order_free(part) for part in condition.parts), key=repr)}


class _Parts(Struct, frozen=True, dict=True):
    """What `all` and `any` share: their parts, and what those look at."""

    parts: tuple[Condition, ...]

    @cached_property
    def _facts(self) -> frozenset[str]:
        return frozenset().union(*(part.facts() for part in self.parts))

    def facts(self) -> frozenset[str]:
        return self._facts

    def leaves(self) -> Iterator[Leaf]:
        for part in self.parts:
            yield from part.leaves()


class All(_Parts, frozen=True):
    def outcome(self, values: Mapping[str, FactValue], as_of: date) -> Outcome:
        answer = Outcome.MET
        for part in self.parts:
            outcome = part.outcome(values, as_of)
            if outcome is Outcome.UNMET:
                return outcome
            if outcome is Outcome.UNREAD:
                answer = outcome
        return answer

    def data(self) -> dict[str, Any]:
        return {"all": [part.data() for part in self.parts]}

    def __str__(self) -> str:
        return " and ".join(f"({part})" if isinstance(part, Any_) else str(part) for part in self.parts) or "always"


class Any_(_Parts, frozen=True):  # noqa: N801 - `Any` is typing's
    def outcome(self, values: Mapping[str, FactValue], as_of: date) -> Outcome:
        answer = Outcome.UNMET
        for part in self.parts:
            outcome = part.outcome(values, as_of)
            if outcome is Outcome.MET:
                return outcome
            if outcome is Outcome.UNREAD:
                answer = outcome
        return answer

    def data(self) -> dict[str, Any]:
        return {"any": [part.data() for part in self.parts]}

    def __str__(self) -> str:
        return " or ".join(f"({part})" if isinstance(part, All) else str(part) for part in self.parts) or "never"


class Not(Struct, frozen=True):
    part: Condition

    def outcome(self, values: Mapping[str, FactValue], as_of: date) -> Outcome:
        outcome = self.part.outcome(values, as_of)
        if outcome is Outcome.UNREAD:
            return outcome
        return Outcome.UNMET if outcome is Outcome.MET else Outcome.MET

    def facts(self) -> frozenset[str]:
        return self.part.facts()

    def leaves(self) -> Iterator[Leaf]:
        yield from self.part.leaves()

    def data(self) -> dict[str, Any]:
        return {"not": self.part.data()}

    def __str__(self) -> str:
        return f"not ({self.part})"


Condition = Leaf | All | Any_ | Not
ALWAYS = All(())

_NUMBERS = {FactType.INTEGER, FactType.DECIMAL}
_MOMENTS = {FactType.DATE, FactType.TIMESTAMP}
_EVERY = set(FactType)
_OF_TWO = ("same_as", "includes")  # operators whose operand is another fact
OPERATORS: Mapping[str, set[FactType]] = {
    "is": _EVERY - {FactType.SET},
    "is_not": _EVERY - {FactType.SET},
    "at_least": _NUMBERS,
    "at_most": _NUMBERS,
    "at_least_version": {FactType.VERSION},
    "one_of": _EVERY - {FactType.SET},
    "listed_in": {FactType.TEXT},
    "has_all": {FactType.SET},
    "has_any": {FactType.SET},
    "same_as": _EVERY,
    "includes": {FactType.SET},
    "within_days": _MOMENTS,
}


def parse(
    data: Mapping[str, Any],
    specs: Mapping[str, FactSpec],
    lists: Mapping[str, frozenset[str]] | None = None,
    path: tuple[str | int, ...] = (),
    depth: int = 0,
) -> Condition:
    """Read a condition from its data. Raises `ConditionError` that leads to the place and names the hint."""
    if depth > 20:
        raise ConditionError(path, "The condition is nested more than 20 deep", "Write it flatter")
    if not isinstance(data, Mapping):
        raise ConditionError(path, f"{data!r} is not a condition", 'Write { fact = "memory.mib", at_least = 6144 }')
    keys = set(data)
    for word, build in (("all", All), ("any", Any_)):
        if word in keys:
            _only(keys, {word}, path)
            parts = data[word]
            if not isinstance(parts, list) or not parts:
                raise ConditionError((*path, word), f"{word!r} needs a list of conditions", "Add at least one")
            return build(
                tuple(parse(part, specs, lists, (*path, word, at), depth + 1) for at, part in enumerate(parts))
            )
    if "not" in keys:
        _only(keys, {"not"}, path)
        return Not(parse(data["not"], specs, lists, (*path, "not"), depth + 1))
    return _parse_leaf(data, specs, lists or {}, path)


def _only(keys: set[str], allowed: set[str], path: tuple[str | int, ...]) -> None:
    if extra := sorted(keys - allowed):
        raise ConditionError(
            (*path, extra[0]), f"{extra[0]!r} cannot stand beside {sorted(allowed)[0]!r}", "Put it in a part of its own"
        )


def _parse_leaf(
    data: Mapping[str, Any],
    specs: Mapping[str, FactSpec],
    lists: Mapping[str, frozenset[str]],
    path: tuple[str | int, ...],
) -> Leaf:
    name = data.get("fact")
    if not isinstance(name, str):
        raise ConditionError(path, "A condition needs a fact, or all, any, not", 'Write { fact = "memory.mib", ... }')
    spec = specs.get(name)
    if spec is None:
        near = _nearest(name, specs)
        hint = f"Did you mean {near}? " if near else ""
        raise ConditionError(
            (*path, "fact"), f"Unknown fact {name!r}", f"{hint}A sheet declares its own facts in [[fact]]"
        )
    operators = sorted(set(data) - {"fact", "tolerance"})
    if len(operators) != 1:
        raise ConditionError(path, f"{name} needs exactly one operator", f"Use one of {', '.join(OPERATORS)}")
    op = operators[0]
    if op not in OPERATORS:
        raise ConditionError((*path, op), f"Unknown operator {op!r}", f"Use one of {', '.join(OPERATORS)}")
    if spec.type not in OPERATORS[op]:
        fitting = ", ".join(word for word, types in OPERATORS.items() if spec.type in types)
        raise ConditionError((*path, op), f"{op!r} does not fit {name}, which is {spec.type}", f"Use one of {fitting}")
    tolerance = _tolerance(data.get("tolerance"), op, path)
    operand = _operand(op, data[op], spec, specs, lists, (*path, op))
    return Leaf(name, op, operand, spec, tolerance, str(data[op]) if op == "listed_in" else None)


def _tolerance(raw: object, op: str, path: tuple[str | int, ...]) -> float:
    if raw is None:
        return 0.0
    try:
        share = float(str(raw).removesuffix("%")) / 100 if str(raw).endswith("%") else -1.0
    except ValueError:
        share = -1.0
    if op not in ("at_least", "at_most") or not 0 <= share <= 0.5:
        raise ConditionError(
            (*path, "tolerance"), f"tolerance {raw!r} does not fit", 'Write "3%", up to 50%, beside at_least or at_most'
        )
    return share


def _operand(
    op: str,
    raw: Any,
    spec: FactSpec,
    specs: Mapping[str, FactSpec],
    lists: Mapping[str, frozenset[str]],
    path: tuple[str | int, ...],
) -> Any:
    if op == "same_as":
        if raw not in specs or specs[raw].type is not spec.type:
            raise ConditionError(
                path, f"{raw!r} is no fact of type {spec.type}", f"Name a fact that {spec.name} can equal"
            )
        return raw
    if op == "includes":
        if raw not in specs or specs[raw].type is not FactType.TEXT:
            raise ConditionError(path, f"{raw!r} is no fact of type text", f"Name a fact that {spec.name} can hold")
        return raw
    if op == "listed_in":
        if raw not in lists:
            raise ConditionError(path, f"The list {raw!r} is missing", "Put the file beside the sheet and load both")
        return lists[raw]
    if op == "within_days":
        if isinstance(raw, bool) or not isinstance(raw, int) or raw < 0:
            raise ConditionError(path, f"{raw!r} is not a number of days", "Write a whole number, such as 7")
        return raw
    try:
        if op == "one_of":
            if not isinstance(raw, list) or not raw:
                raise ConditionError(path, "one_of needs a list of values", "Add at least one value")
            return frozenset(spec.parse(item) for item in raw)
        return spec.parse(raw)
    except FactError as error:
        raise ConditionError(path, error.message, error.hint) from error


def _nearest(name: str, known: Mapping[str, object]) -> str | None:
    found = get_close_matches(name, list(known), 1, 0.6)
    return found[0] if found else None
