"""A table of values: the distinct values of facts in a stream of readings, each parsed once and given a number.

In: raw facts of a reading, as JSON or a table hold them. Out: their shape (of which facts) and their values' numbers.
Machines say many things of their own, yet most values of most facts are said by many: what costs is paid once a value.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from operator import itemgetter
from typing import Any

from doorstone.core.facts import FactSpec, FactValue


@dataclass(slots=True)
class _Shape:
    """Which facts a reading has, in order.

    `columns`: kinds of raw values -> for each fact, raw value -> number; and where lists stand among them.
    """

    number: int
    names: tuple[str, ...]
    columns: dict[tuple[type, ...], tuple[list[dict[Any, int]], list[int]]] = field(default_factory=dict)

    def raw(self, facts: Mapping[str, Any]) -> tuple[Any, ...]:
        """The raw values in the order of the names. Raises `KeyError` if one is missing."""
        if len(self.names) > 1:
            return itemgetter(*self.names)(facts)  # type: ignore[no-any-return]
        return tuple([facts[name] for name in self.names])


class ValueTable:
    """Gives values numbers from 0, in the order in which they are met first."""

    def __init__(self, specs: Mapping[str, FactSpec]) -> None:
        self.specs = specs
        self.values: list[tuple[str, FactValue]] = []
        self.shapes: list[tuple[str, ...]] = []
        self._by_names: dict[tuple[str, ...], _Shape] = {}
        self._last = _Shape(-1, ())
        self._numbers: dict[tuple[str, FactValue], int] = {}
        self._columns: dict[tuple[str, type], dict[Any, int]] = {}
        self._places: dict[tuple[int, tuple[str, ...]], tuple[int, ...]] = {}

    def fresh(self) -> ValueTable:
        """An empty table of the same facts."""
        return ValueTable(self.specs)

    def coded(self, raw: Mapping[str, Any]) -> tuple[int, tuple[int, ...]]:
        """The shape and the numbers of the values of facts; a raw None is left out.

        Raises `FactError` for a value that its fact does not hold, `KeyError` for a fact that there is not.
        """
        shape = self._last
        if len(raw) != len(shape.names) or shape.number < 0:
            shape = self._shape(raw)
        try:
            values: Sequence[Any] = shape.raw(raw)
        except KeyError:
            shape = self._shape(raw)
            values = shape.raw(raw)
        kinds = tuple(map(type, values))
        known = shape.columns.get(kinds)
        if known is None:
            if None in values:
                return self.coded({name: value for name, value in raw.items() if value is not None})
            columns = [self._columns.setdefault((n, k), {}) for n, k in zip(shape.names, kinds, strict=True)]
            known = shape.columns[kinds] = columns, [at for at, kind in enumerate(kinds) if kind is list]
        self._last = shape
        columns, lists = known
        try:
            if lists:
                values = list(values)
                for at in lists:
                    values[at] = tuple(values[at])
            numbers = [column.get(value) for column, value in zip(columns, values, strict=True)]
            if None in numbers:
                for at, number in enumerate(numbers):
                    if number is None:
                        name = shape.names[at]
                        numbers[at] = columns[at][values[at]] = self._number(name, raw[name])
        except TypeError:  # a value that nothing holds as it is; the spec says what is wrong with it
            numbers = [self._number(name, raw[name]) for name in shape.names]
        return shape.number, tuple(numbers)  # type: ignore[arg-type]

    def _shape(self, raw: Mapping[str, Any]) -> _Shape:
        names = tuple(sorted(raw))
        found = self._by_names.get(names)
        if found is None:
            found = self._by_names[names] = _Shape(len(self.shapes), names)
            self.shapes.append(names)
        return found

    def _number(self, name: str, raw: Any) -> int:
        value = self.specs[name].parse(raw)
        number = self._numbers.get((name, value))
        if number is None:
            number = self._numbers[name, value] = len(self.values)
            self.values.append((name, value))
        return number

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
