"""A table of values: the distinct values of facts in a stream of readings, each parsed once and given a number.

In: raw facts of readings, as JSON or a table hold them. Out: their shape (of which facts) and their values' numbers.
Machines say many things of their own, yet most values of most facts are said by many: what costs is paid once a value.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from doorstone.core.facts import FactError, FactSpec, FactValue

_UNREAD = -1
"""Stands for a value that its fact does not hold."""


class _Shape(NamedTuple):
    """Which facts a reading has, in order, and what picks their raw values from it; raises `KeyError` if one lacks."""

    number: int
    names: tuple[str, ...]
    pick: Callable[[Mapping[str, Any]], tuple[Any, ...]]


def _picker(names: tuple[str, ...]) -> Callable[[Mapping[str, Any]], tuple[Any, ...]]:
    return itemgetter(*names) if len(names) > 1 else lambda facts: tuple([facts[name] for name in names])


class _Numbers:
    """The numbers of values. `unread` counts the values met that their facts do not hold.

    The columns of a table share them, and do not know the table: it is gone once nobody uses it, with no cycle left.
    """

    def __init__(self, specs: Mapping[str, FactSpec]) -> None:
        self.specs = specs
        self.values: list[tuple[str, FactValue]] = []
        self.unread = 0
        self._numbers: dict[tuple[str, FactValue], int] = {}

    def number(self, name: str, raw: Any) -> int:
        """The number of a raw value of a fact. Raises `FactError`; `KeyError` for a fact that there is not."""
        value = self.specs[name].parse(raw)
        number = self._numbers.get((name, value))
        if number is None:
            number = self._numbers[name, value] = len(self.values)
            self.values.append((name, value))
        return number


class _Column(dict[Any, int]):
    """Raw values of one fact, of one kind -> their numbers. A value that is met first is parsed and numbered.

    Texts equal nothing but texts, so what is looked up among them is one, or is met first.
    """

    def __init__(self, numbers: _Numbers, name: str, kind: type) -> None:
        super().__init__()
        self._numbers, self._name, self._kind = numbers, name, kind

    def __missing__(self, raw: Any) -> int:
        try:
            number = self._numbers.number(self._name, list(raw) if self._kind is list else raw)
        except (FactError, KeyError):
            self._numbers.unread += 1
            return _UNREAD
        if type(raw) is self._kind or self._kind is list:
            self[raw] = number
        return number


class ValueTable:
    """Gives values numbers from 0, in the order in which they are met first: `values` by number."""

    def __init__(self, specs: Mapping[str, FactSpec]) -> None:
        self.shapes: list[tuple[str, ...]] = []
        self._numbers = _Numbers(specs)
        self.values = self._numbers.values
        self._by_names: dict[tuple[str, ...], _Shape] = {}
        self._columns: dict[tuple[str, type], _Column] = {}
        self._places: dict[tuple[int, tuple[str, ...]], tuple[int, ...]] = {}

    def coded(self, raw: Mapping[str, Any]) -> tuple[int, tuple[int, ...]]:
        """The shape and the numbers of the values of facts; a raw None is left out.

        Raises `FactError` for a value that its fact does not hold, `KeyError` for a fact that there is not.
        """
        (found,) = self.coded_all([raw])
        if found is None:
            for name, value in raw.items():
                if value is not None:
                    self._numbers.number(name, value)
        assert found is not None
        return found

    def coded_all(self, raws: Sequence[Mapping[str, Any]]) -> list[tuple[int, tuple[int, ...]] | None]:
        """As `coded`, of many readings, fact by fact; None in the place of one that `coded` would refuse."""
        found: list[tuple[int, tuple[int, ...]] | None] = [None] * len(raws)
        alike: dict[int, tuple[_Shape, list[int], list[tuple[Any, ...]]]] = {}
        shape, size = _Shape(-1, (), _picker(())), -1
        for at, raw in enumerate(raws):
            if len(raw) != size:
                shape, size = self._shape(raw), len(raw)
            try:
                values = shape.pick(raw)
            except KeyError:
                shape = self._shape(raw)
                values = shape.pick(raw)
            held = alike.get(shape.number)
            if held is None:
                held = alike[shape.number] = shape, [], []
            held[1].append(at)
            held[2].append(values)
        before = self._numbers.unread
        for number, (shape, places, rows) in alike.items():
            columns = [
                self._column(name, column)
                for name, column in zip(shape.names, zip(*rows, strict=True), strict=bool(rows[0]))
            ]
            for at, numbers in zip(places, zip(*columns, strict=True) if columns else [()] * len(rows), strict=True):
                found[at] = number, numbers
        if self._numbers.unread > before:
            self._look_again(raws, found)
        return found

    def _look_again(self, raws: Sequence[Mapping[str, Any]], found: list[tuple[int, tuple[int, ...]] | None]) -> None:
        """Code those with values that are None without these, and leave out those with values that no fact holds."""
        without: dict[int, dict[str, Any]] = {}
        for at, one in enumerate(found):
            if one is not None and _UNREAD in one[1]:
                found[at] = None
                held = {name: value for name, value in raws[at].items() if value is not None}
                if len(held) < len(raws[at]):
                    without[at] = held
        if without:
            for at, one in zip(without, self.coded_all(list(without.values())), strict=True):
                found[at] = one

    def _column(self, name: str, values: Sequence[Any]) -> list[int]:
        """The numbers of raw values of one fact; `_UNREAD` for what it does not hold."""
        kinds = {str} if type(values[0]) is str else set(map(type, values))
        if len(kinds) > 1:
            return [self._looked_up(name, value) for value in values]
        (kind,) = kinds
        try:
            return list(map(self._known(name, kind).__getitem__, map(tuple, values) if kind is list else values))
        except TypeError:
            return [self._looked_up(name, value) for value in values]

    def _known(self, name: str, kind: type) -> _Column:
        found = self._columns.get((name, kind))
        if found is None:
            found = self._columns[name, kind] = _Column(self._numbers, name, kind)
        return found

    def _looked_up(self, name: str, value: Any) -> int:
        try:
            return self._known(name, type(value))[tuple(value) if type(value) is list else value]
        except TypeError:  # it holds objects or lists, as no fact does
            self._numbers.unread += 1
            return _UNREAD

    def _shape(self, raw: Mapping[str, Any]) -> _Shape:
        names = tuple(sorted(raw))
        found = self._by_names.get(names)
        if found is None:
            found = self._by_names[names] = _Shape(len(self.shapes), names, _picker(names))
            self.shapes.append(names)
        return found

    def places(self, shape: int, names: tuple[str, ...]) -> tuple[int, ...]:
        """Where in the numbers of a shape those of some facts stand; -1 for one that it has not."""
        found = self._places.get((shape, names))
        if found is None:
            held = self.shapes[shape]
            found = tuple(held.index(name) if name in held else -1 for name in names)
            self._places[shape, names] = found
        return found

    def facts(self, shape: int, numbers: tuple[int, ...]) -> dict[str, FactValue]:
        """The facts of a reading that was coded."""
        return {name: self.values[number][1] for name, number in zip(self.shapes[shape], numbers, strict=True)}
