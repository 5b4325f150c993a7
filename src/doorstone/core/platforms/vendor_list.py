"""A vendor's list as it comes, matched with the names that the sheet and the fleet use.

Vendors write names otherwise from list to list: case, spaces, trade marks, words before and after. What comes to the
same by the rules is the same name, in every spelling that devices report. What is only near is shown, decided once, and
remembered. In: the raw names, the list in force, the names that devices report, earlier decisions, the rules. Out: the
new list, and what was added, dropped, renamed.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Iterable, Mapping, Sequence
from enum import StrEnum
from typing import NamedTuple

from msgspec import Struct
from rapidfuzz import fuzz, process

NEAR = 86
"""From so many of 100 points on two names are near: about one letter in seven differs."""
MOST_NEAR = 3
_DASHES = re.compile("[\u2010-\u2015\u2212\ufe58\ufe63\uff0d]")
_UNSEEN = re.compile("[\u00ad\u200b-\u200d\u2060\ufeff]")
_MARKS = re.compile(r"\((?:r|tm|c|sm)\)|[®™©℠]", re.IGNORECASE)


class NameMatch(StrEnum):
    SAME = "same"
    BY_RULE = "by-rule"
    REMEMBERED = "remembered"
    NEAR = "near"
    NEW = "new"


class MatchRules(Struct, frozen=True):
    """What makes two names equal. `prefixes` and `suffixes` are words that are taken off, as they are or by case."""

    case: bool = True
    spaces: bool = True
    marks: bool = True
    prefixes: tuple[str, ...] = ()
    suffixes: tuple[str, ...] = ()


class ListName(Struct, frozen=True):
    """A name of the vendor's list, and one that stands for it. `near` are names that it may be, the nearest first."""

    raw: str
    name: str
    match: NameMatch
    near: tuple[str, ...] = ()


class Renamed(NamedTuple):
    """A name that went, and the one that came in its place."""

    was: str
    now: str


class ListMatch(Struct, frozen=True):
    """The names of the new list, and how it differs from the one in force."""

    names: tuple[ListName, ...]
    added: tuple[str, ...]
    dropped: tuple[str, ...]
    renamed: tuple[Renamed, ...]

    @property
    def undecided(self) -> tuple[ListName, ...]:
        """Names that are near to a known one. A person has to decide whether they are the same."""
        return tuple(one for one in self.names if one.match is NameMatch.NEAR)


def plain_name(name: str, rules: MatchRules) -> str:
    """A name without what the rules leave out. Wide letters and odd dashes become those of a keyboard."""
    made = _spelled(name, rules)
    return made.replace(" ", "") if rules.spaces else made


def _spelled(name: str, rules: MatchRules) -> str:
    """`plain_name`, its words still apart."""
    made = _MARKS.sub(" ", name) if rules.marks else name
    made = _UNSEEN.sub("", _DASHES.sub("-", unicodedata.normalize("NFKC", made)))
    made = " ".join(made.split()) if rules.spaces or rules.marks else made
    made = made.casefold() if rules.case else made
    for word in rules.prefixes:
        made = made.removeprefix(_word(word, rules)).strip()
    for word in rules.suffixes:
        made = made.removesuffix(_word(word, rules)).strip()
    return made


def _word(word: str, rules: MatchRules) -> str:
    return word.casefold() if rules.case else word


def match_list(
    raw: Sequence[str],
    held: Collection[str],
    reported: Collection[str],
    remembered: Mapping[str, str],
    rules: MatchRules,
) -> ListMatch:
    """Match a vendor's names. `remembered` maps a raw name to the one that somebody said it is, itself if another."""
    spellings = {**_spellings(held, rules), **_spellings(reported, rules)}
    parts: dict[str, set[str]] = {}
    for plain, spelled in spellings.items():
        for run in {run for name in spelled for run in _runs(name, rules)}:
            parts.setdefault(run, set()).add(plain)
    found = [
        one
        for name in dict.fromkeys(word.strip() for word in raw if word.strip())
        for one in _match(name, spellings, parts, remembered, rules)
    ]
    names = {one.name for one in found}
    added, dropped = sorted(names - set(held)), sorted(set(held) - names)
    return ListMatch(tuple(found), tuple(added), tuple(dropped), _renamed(dropped, added, rules))


def _spellings(names: Iterable[str], rules: MatchRules) -> dict[str, set[str]]:
    """Plain name -> the names that are the same by the rules."""
    found: dict[str, set[str]] = {}
    for name in names:
        found.setdefault(plain_name(name, rules), set()).add(name)
    return found


def _match(
    raw: str,
    spellings: Mapping[str, Collection[str]],
    parts: Mapping[str, Collection[str]],
    remembered: Mapping[str, str],
    rules: MatchRules,
) -> list[ListName]:
    if raw in remembered:
        return [ListName(raw, remembered[raw], NameMatch.REMEMBERED)]
    plain = plain_name(raw, rules)
    if plain in spellings:
        return [
            ListName(raw, name, NameMatch.SAME if name == raw else NameMatch.BY_RULE)
            for name in sorted(spellings[plain])
        ]
    close = process.extract(plain, list(spellings), scorer=fuzz.ratio, score_cutoff=NEAR, limit=MOST_NEAR)
    keys = [key for key, _, _ in close if not _other_number(plain, key)]
    keys += [key for key in _longer_or_shorter(raw, spellings, parts, rules) if key not in keys]
    near = tuple(name for key in keys[:MOST_NEAR] for name in sorted(spellings[key]))
    return [ListName(raw, raw, NameMatch.NEAR if near else NameMatch.NEW, near)]


def _longer_or_shorter(
    raw: str, spellings: Mapping[str, Collection[str]], parts: Mapping[str, Collection[str]], rules: MatchRules
) -> list[str]:
    """The known names that are `raw` with more words around them, such as `CPU` or `@ 2.4 GHz`, or with fewer."""
    whole = _spelled(raw, rules)
    longer = set(parts.get(whole, ())) if " " in whole else set()
    shorter = {plain_name(run, rules) for run in _runs(raw, rules)} & spellings.keys()
    return sorted(longer | shorter)


def _runs(name: str, rules: MatchRules) -> set[str]:
    """Every run of two or more words of a name in which there is a number: what may name a model by itself."""
    words = _spelled(name, rules).split()
    runs = (words[first:last] for first in range(len(words)) for last in range(first + 2, len(words) + 1))
    return {" ".join(run) for run in runs if any(letter.isdigit() for word in run for letter in word)}


def _other_number(one: str, other: str) -> bool:
    """Whether two names have other numbers in them: models are told apart by these."""
    return re.findall(r"\d+", one) != re.findall(r"\d+", other)


def _renamed(dropped: Sequence[str], added: Sequence[str], rules: MatchRules) -> tuple[Renamed, ...]:
    """Each name that went with the nearest one that came."""
    pairs, left = [], {plain_name(name, rules): name for name in added}
    for name in dropped:
        plain = plain_name(name, rules)
        close = process.extract(plain, list(left), scorer=fuzz.ratio, score_cutoff=NEAR, limit=MOST_NEAR)
        for key, _, _ in close:
            if not _other_number(plain, key):
                pairs.append(Renamed(name, left.pop(key)))
                break
    return tuple(pairs)


def list_text(match: ListMatch, source: str) -> str:
    """The list beside the sheet: a name a line, in order."""
    lines = sorted({one.name for one in match.names})
    return f"# {source}\n" + "".join(f"{line}\n" for line in lines)
