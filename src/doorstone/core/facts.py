"""Facts: what is known of a device.

Decides how a fact is typed and in which unit. Says what a reading is, and what readings settle into: a `View`, with
contested facts marked (see `core/readings/settle.py`).
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from decimal import Decimal
from enum import StrEnum
from functools import cached_property
from itertools import product
from typing import Any

from msgspec import Struct, field

from doorstone.core.numbers import UNSAID, Marks, NumberError, read_number
from doorstone.core.text import hidden_character


class FactError(ValueError):
    """A value that a fact cannot hold. `message` says what is wrong, `hint` what to write instead."""

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(f"{message}. {hint}")
        self.message = message
        self.hint = hint


class Version(Struct, frozen=True):
    """A dotted version, `2.0`; compared number by number, so that 1.10 is above 1.9 and 2 equals 2.0."""

    numbers: tuple[int, ...]

    @classmethod
    def parse(cls, text: str) -> Version:
        """Raises `FactError` unless `text` is numbers joined by dots."""
        if not re.fullmatch(r"\d{1,9}(\.\d{1,9}){0,7}", text.strip()):
            raise FactError(f"{text!r} is not a version", "Write numbers joined by dots, such as 2.0")
        return cls(tuple(int(part) for part in text.strip().split(".")))

    def _key(self) -> tuple[int, ...]:
        numbers = self.numbers
        while numbers and numbers[-1] == 0:
            numbers = numbers[:-1]
        return numbers

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self._key() == other._key()

    def __hash__(self) -> int:
        return hash(self._key())

    def __lt__(self, other: Version) -> bool:
        return self._key() < other._key()

    def __le__(self, other: Version) -> bool:
        return self._key() <= other._key()

    def __gt__(self, other: Version) -> bool:
        return self._key() > other._key()

    def __ge__(self, other: Version) -> bool:
        return self._key() >= other._key()

    def __str__(self) -> str:
        return ".".join(str(number) for number in self.numbers)


FactValue = str | int | Decimal | bool | Version | frozenset[str] | date | datetime


class FactType(StrEnum):
    TEXT = "text"
    INTEGER = "integer"
    DECIMAL = "decimal"
    FLAG = "flag"
    VERSION = "version"
    SET = "set"
    DATE = "date"
    TIMESTAMP = "timestamp"


_BYTES = {
    "B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12,
    "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40,
}  # fmt: skip
_HERTZ = {"kHz": 10**3, "MHz": 10**6, "GHz": 10**9}
_NONE: Mapping[str, str] = {}
_SCALES: tuple[Mapping[str, int], ...] = (_BYTES, _HERTZ)
_YES = {"true", "yes", "1"}
_NO = {"false", "no", "0"}
_QUANTITY = re.compile(r"\s*([+-]?[0-9.,][0-9.,'’\u00a0\u202f\u2009 ]*?)\s*([A-Za-z]*)\s*")


class FactSpec(Struct, frozen=True):
    """What a fact may hold: its type, unit, and whether it is lasting (a part) or passing (free space)."""

    name: str
    type: FactType
    unit: str | None = None
    lasting: bool = True
    choices: tuple[str, ...] = ()
    tolerance: float = 0.0
    title: str = ""
    names: bool = False
    """A set of names: they may hold spaces, and keep their letters as they are written."""

    def parse(self, raw: object) -> FactValue:
        """Read a JSON value or a cell of text. Sizes may carry a unit: `8 GiB`. Raises `FactError`."""
        match self.type:
            case FactType.TEXT:
                return self._text(raw)
            case FactType.INTEGER | FactType.DECIMAL:
                return self._number(raw)
            case FactType.FLAG:
                return self._flag(raw)
            case FactType.SET:
                return self._set(raw)
            case FactType.VERSION:
                return Version.parse(str(raw))
            case FactType.DATE | FactType.TIMESTAMP:
                return self._moment(raw)

    def _number(self, raw: object) -> FactValue:
        if isinstance(raw, bool) or not isinstance(raw, int | float | Decimal | str):
            raise FactError(f"{self.name} is a number, not {raw!r}", "Write a number")
        if isinstance(raw, str):
            return self.quantity(raw)
        return self._in_range(Decimal(str(raw)), raw)

    def quantity(self, text: str, marks: Marks = UNSAID, unit: str = "", units: Mapping[str, str] = _NONE) -> FactValue:
        """Read a number with or without its unit. `unit` is that of bare numbers; `units` maps a word to what it means.

        Raises `FactError`, with both readings of a number that `marks` leave open.
        """
        found = _QUANTITY.fullmatch(text)
        if not found:
            raise FactError(f"{text!r} is not a number for {self.name}", self._number_hint())
        word = found[2] or unit
        factor = self._factor(units.get(word, word)) if word else Decimal(1)
        try:
            number = read_number(found[1], marks)
        except NumberError as error:
            if not error.readings:
                raise FactError(f"{text!r} is not a number for {self.name}", self._number_hint()) from error
            both = " or ".join(f"{reading.normalize():f}" for reading in error.readings)
            raise FactError(
                f"{text!r} for {self.name} can be read as {both}",
                "Write it without a thousands mark, or say in a mapping which mark begins the decimals",
            ) from error
        return self._in_range(number * factor, text)

    def _in_range(self, number: Decimal, raw: object) -> FactValue:
        if not number.is_finite() or abs(number) > Decimal(10) ** 15:
            raise FactError(f"{raw!r} is out of range for {self.name}", self._number_hint())
        return math.floor(number) if self.type is FactType.INTEGER else number

    def _number_hint(self) -> str:
        return f"Write it in {self.unit}, such as 8192 {self.unit}" if self.unit else "Write a plain number"

    def _factor(self, unit: str) -> Decimal:
        if self.unit is None or unit == self.unit:
            if self.unit is None:
                raise FactError(f"{unit!r} stands behind {self.name}, which has no unit", self._number_hint())
            return Decimal(1)
        for scale in _SCALES:
            if self.unit in scale:
                if unit in scale:
                    return Decimal(scale[unit]) / Decimal(scale[self.unit])
                raise FactError(
                    f"{unit!r} is not a unit of {self.name}",
                    f"Use one of {', '.join(scale)}; the fact is in {self.unit}",
                )
        raise FactError(f"{unit!r} is not a unit of {self.name}", self._number_hint())

    def _flag(self, raw: object) -> bool:
        if isinstance(raw, bool):
            return raw
        word = str(raw).strip().lower()
        if word in _YES:
            return True
        if word in _NO:
            return False
        raise FactError(f"{raw!r} is not yes or no for {self.name}", "Write true or false")

    def _set(self, raw: object) -> frozenset[str]:
        parts: list[object]
        if isinstance(raw, str):
            parts = [part.strip() for part in re.split(r"[;,]" if self.names else r"[;,\s]+", raw.strip())]
        elif isinstance(raw, list | tuple | set | frozenset):
            parts = list(raw)
        else:
            raise FactError(f"{self.name} is a list of words, not {raw!r}", 'Write ["avx2", "fma"] or avx2;fma')
        if not all(isinstance(part, str) for part in parts):
            raise FactError(f"{self.name} is a list of words", "Put each word in quotes")
        if any(hidden_character(str(part)) for part in parts):
            raise FactError(f"{self.name} has control characters", "Remove them")
        return frozenset(str(part) if self.names else str(part).lower() for part in parts if part)

    def _moment(self, raw: object) -> date | datetime:
        if isinstance(raw, datetime):
            return raw if self.type is FactType.TIMESTAMP else raw.date()
        if isinstance(raw, date):
            return raw if self.type is FactType.DATE else datetime(raw.year, raw.month, raw.day)
        try:
            if self.type is FactType.DATE:
                return date.fromisoformat(str(raw)[:10])
            return datetime.fromisoformat(str(raw)).replace(tzinfo=None)
        except ValueError as error:
            raise FactError(f"{raw!r} is not a date for {self.name}", "Write it as 2027-01-18") from error

    def _text(self, raw: object) -> str:
        if not isinstance(raw, str | int | float):
            raise FactError(f"{self.name} is text, not {raw!r}", "Put it in quotes")
        text = str(raw).strip()
        if self.choices:
            text = text.lower()
            if text not in self.choices:
                raise FactError(f"{self.name} cannot be {text!r}", f"Use one of {', '.join(self.choices)}")
        if len(text) > 500 or "\n" in text or "\t" in text or "\r" in text or hidden_character(text):
            raise FactError(f"{self.name} is too long or has control characters", "Keep it under 500 letters")
        return text

    def close(self, one: FactValue, other: FactValue) -> bool:
        """Whether two values count as the same: numbers within the fact's tolerance, others exactly."""
        if self.tolerance and isinstance(one, int | Decimal) and isinstance(other, int | Decimal):
            low, high = sorted((float(one), float(other)))
            return high - low <= self.tolerance * abs(high)
        if self.names and isinstance(one, frozenset) and isinstance(other, frozenset):
            return {name.casefold() for name in one} == {name.casefold() for name in other}
        return one == other

    def show(self, value: FactValue) -> str:
        """A value as people read it, with its unit: `7,900 MiB`."""
        if isinstance(value, str):
            return value
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, int | Decimal):
            return f"{value:,} {self.unit}" if self.unit else str(value)
        if isinstance(value, frozenset):
            return ", ".join(sorted(value)) or "none"
        return str(value)


class FactReader:
    """Parses raw values by the specs' rules, and remembers: many devices say the same of themselves."""

    def __init__(self, specs: Mapping[str, FactSpec], most: int = 50_000) -> None:
        self.specs = specs
        self._most = most
        self._known: dict[str, dict[object, tuple[type, FactValue]]] = {name: {} for name in specs}

    def parse(self, name: str, raw: Any) -> FactValue:
        """The value of the fact `name`. Raises `FactError`; `KeyError` if there is no such fact."""
        known = self._known[name]
        key = tuple(raw) if raw.__class__ is list else raw
        try:
            held = known.get(key)
        except TypeError:  # a value that nothing holds as it is; the spec says what is wrong with it
            return self.specs[name].parse(raw)
        if held is not None and held[0] is raw.__class__:  # 1 is no flag, though it equals one
            return held[1]
        value = self.specs[name].parse(raw)
        if len(known) >= self._most:
            known.clear()
        known[key] = raw.__class__, value
        return value


def dump(value: FactValue) -> Any:
    """A value as JSON holds it; `FactSpec.parse` reads it back."""
    if isinstance(value, str):
        return value
    if isinstance(value, frozenset):
        return sorted(value)
    if isinstance(value, bool | int):
        return value
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, date):
        return value.isoformat()
    return str(value)


def _fact(name: str, kind: FactType, unit: str | None = None, **more: Any) -> tuple[str, FactSpec]:
    return name, FactSpec(name, kind, unit, **more)


_T, _I, _F, _V = FactType.TEXT, FactType.INTEGER, FactType.FLAG, FactType.VERSION
BUILT_IN: Mapping[str, FactSpec] = dict(
    [
        _fact("machine.maker", _T, title="Maker"),
        _fact("machine.model", _T, title="Model"),
        _fact("machine.serial", _T, title="Serial number"),
        _fact("machine.year", _I, title="Year of make"),
        _fact("cpu.model", _T, title="Processor"),
        _fact("cpu.arch", _T, title="Processor architecture"),
        _fact("cpu.cores", _I, title="Processor cores"),
        _fact("cpu.clock_mhz", _I, "MHz", tolerance=0.05, title="Processor clock"),
        _fact("cpu.features", FactType.SET, title="Instruction sets"),
        _fact("memory.mib", _I, "MiB", tolerance=0.05, title="Memory"),
        _fact("disk.system_gib", _I, "GiB", tolerance=0.08, title="System disk"),
        _fact("disk.free_gib", _I, "GiB", lasting=False, tolerance=0.08, title="Free space"),
        _fact("disk.table", _T, choices=("gpt", "mbr"), title="Partition table"),
        _fact("disk.encrypted", _F, title="Disk encrypted"),
        _fact("firmware.mode", _T, choices=("uefi", "legacy"), title="Firmware mode"),
        _fact("firmware.uefi_capable", _F, title="Firmware can do UEFI"),
        _fact("firmware.secure_boot", _T, choices=("on", "off", "absent"), title="Secure Boot"),
        _fact("tpm.version", _V, title="TPM version"),
        _fact("tpm.state", _T, choices=("on", "off", "absent"), title="TPM"),
        _fact("graphics.model", _T, title="Graphics"),
        _fact("graphics.vulkan", _V, title="Vulkan level"),
        _fact("display.width", _I, "px", title="Display width"),
        _fact("display.height", _I, "px", title="Display height"),
        _fact("os.platform", _T, title="Platform"),
        _fact("os.release", _T, title="Release"),
        _fact("os.edition", _T, title="Edition"),
        _fact("os.arch", _T, title="System architecture"),
        _fact("os.base_language", _T, title="Base language"),
        _fact("os.display_language", _T, title="Display language"),
        _fact("os.pending_updates", _I, lasting=False, title="Pending updates"),
        _fact("os.restart_pending", _F, lasting=False, title="Restart pending"),
        _fact("os.old_drivers", _I, lasting=False, title="Drivers that are not current"),
        _fact("os.activated", _F, lasting=False, title="Activated"),
        _fact("os.last_update", FactType.DATE, lasting=False, title="Last update"),
        _fact("care.last_backup", FactType.DATE, lasting=False, title="Last backup"),
        _fact("care.recovery_key_saved", _F, title="Recovery key saved"),
        _fact("exposure.network", _T, choices=("isolated", "internal", "public"), title="Network it stands in"),
        _fact("exposure.data", _T, choices=("none", "internal", "personal"), title="Data it holds"),
        _fact("care.applications", FactType.SET, title="Applications the organisation lives on", names=True),
        _fact("media.release", _T, title="Release on the media"),
        _fact("media.editions", FactType.SET, title="Editions on the media"),
        _fact("media.arch", _T, title="Architecture of the media"),
        _fact("media.language", _T, title="Language of the media"),
        _fact("media.table", _T, choices=("gpt", "mbr"), title="Partition table of the media"),
        _fact("media.verified", _F, title="Media verified"),
        _fact("media.spare_mib", _I, "MiB", title="Room left on the stick"),
        _fact("upgrade.release", _T, title="Release to upgrade to"),
        _fact("upgrade.carry_over", _T, choices=("everything", "files", "nothing"), title="What is carried over"),
    ]
)


FIX = "fix"
"""The source of what a fix recorded as done gives: older words fall away, and its own does with the next reading."""


class Source(Struct, frozen=True):
    """Who reports. Higher `trust` is believed first; `None` days means that a reading does not age."""

    name: str
    trust: int
    passing_days: int | None = 30
    lasting_days: int | None = None

    def fresh(self, read_on: date, as_of: date, *, lasting: bool) -> bool:
        """Whether what it read on a day still counts: a lasting fact, or a passing one or a verdict."""
        days = self.lasting_days if lasting else self.passing_days
        return days is None or as_of - read_on <= timedelta(days=days)


class Reading(Struct, frozen=True):
    """What one source reported about a device at one time. `verdicts` maps requirement id -> passed."""

    source: str
    taken_at: datetime
    facts: Mapping[str, FactValue]
    verdicts: Mapping[str, bool] = field(default_factory=dict)


class Candidate(Struct, frozen=True):
    value: FactValue
    source: str
    taken_at: datetime


class DisputeDecision(Struct, frozen=True):
    """An operator's word in a dispute: the `value` to believe of a fact, or whether a requirement is met.

    It holds against everything read up to its time, from whichever source and whenever it arrives, and until something
    read later speaks of it. `seen_until` is the newest reading that the operator saw, which a fast clock may have put
    after that time.
    """

    id: str
    subject: str
    value: FactValue
    seen_until: datetime
    reason: str
    by: str
    at: datetime

    def holds(self, read: Iterable[datetime]) -> bool:
        """Whether the decision still holds: nothing was read after it."""
        return all(time <= max(self.at, self.seen_until) for time in read)


class SettledFact(Struct, frozen=True):
    """The believed candidate, and its `rivals`: the other sources' words, if any two differ beyond the tolerance.

    With a `dispute_decision` the disagreement is settled: `rivals` is empty and `overruled` holds those not believed.
    """

    believed: Candidate
    rivals: tuple[Candidate, ...] = ()
    dispute_decision: DisputeDecision | None = None
    overruled: tuple[Candidate, ...] = ()


class Verdict(Struct, frozen=True):
    requirement: str
    passed: bool
    source: str
    taken_at: datetime


class View(Struct, frozen=True, dict=True):
    """A device as it is settled on `as_of`. `aged` holds facts whose only readings are too old.

    `decided` maps requirement -> an operator's word on whether it is met, which ends a dispute with a verdict.
    `fixed` maps fact -> what a fix that was recorded as done gave it last, whether or not it was read since.
    """

    as_of: date
    facts: Mapping[str, SettledFact]
    aged: Mapping[str, Candidate] = field(default_factory=dict)
    verdicts: tuple[Verdict, ...] = ()
    decided: Mapping[str, DisputeDecision] = field(default_factory=dict)
    fixed: Mapping[str, Candidate] = field(default_factory=dict)

    def value(self, name: str) -> FactValue | None:
        settled = self.facts.get(name)
        return settled.believed.value if settled else None

    def values(self) -> Mapping[str, FactValue]:
        """The believed value of each fact."""
        return self._values

    @cached_property
    def _values(self) -> Mapping[str, FactValue]:
        return {name: settled.believed.value for name, settled in self.facts.items()}

    def text(self, name: str, default: str = "") -> str:
        value = self.value(name)
        return default if value is None else str(value)

    def worlds(self, names: Iterable[str], most: int = 64) -> Sequence[Mapping[str, FactValue]] | None:
        """Every combination of distinct candidate values of `names`; None if there are more than `most`."""
        contested = sorted(name for name in names if name in self.facts and self.facts[name].rivals)
        if not contested:
            return [self.values()]
        choices = [_distinct((self.facts[name].believed, *self.facts[name].rivals)) for name in contested]
        if math.prod(len(choice) for choice in choices) > most:
            return None
        base = self.values()
        return [{**base, **dict(zip(contested, picks, strict=True))} for picks in product(*choices)]

    def with_values(self, values: Mapping[str, FactValue], source: str = "what-if") -> View:
        """The same view with some facts replaced, uncontested: what a fix would give."""
        at = datetime(self.as_of.year, self.as_of.month, self.as_of.day)
        added = {name: SettledFact(Candidate(value, source, at)) for name, value in values.items()}
        return View(self.as_of, {**self.facts, **added}, self.aged, ())


def _distinct(candidates: Iterable[Candidate]) -> list[FactValue]:
    found: list[FactValue] = []
    for candidate in candidates:
        if candidate.value not in found:
            found.append(candidate.value)
    return found
