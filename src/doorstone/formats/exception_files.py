"""Exceptions as TOML files, one each, for people who keep policy under version control.

In: terms, or the text of a file. Out: the text, the same for the same terms; or terms, or every problem with its line.
"""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

import tomli_w
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from doorstone.core.exceptions.folder import FileCondition, FileTerms
from doorstone.formats.sheet import SheetProblem, shape_problems
from doorstone.formats.toml import TomlError, read_toml
from doorstone.formats.toml_places import TomlPlaces


class ExceptionFileError(ValueError):
    """A file that cannot be used, with every problem found."""

    def __init__(self, problems: list[SheetProblem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems))
        self.problems = tuple(problems)


class ConditionDocument(BaseModel):
    model_config = ConfigDict(extra="forbid")

    text: str = Field("", description="Words to be attested; or leave it out and give facts")
    facts: dict[str, Any] | None = Field(None, description="A condition on facts, as in a sheet")
    due_on: date | None = None
    every_days: int | None = Field(None, ge=1)


class ExceptionDocument(BaseModel):
    """A file, format 1."""

    model_config = ConfigDict(extra="forbid")

    format: Literal[1]
    exception: str = Field("", description="Its id in the register; left out for one that is to be asked for")
    version: int = Field(0, ge=0, description="Of the register when the file was written")
    state: str = ""
    platform: str
    release: str
    up_to: bool = False
    requirements: list[str] = Field(min_length=1)
    devices: list[str] = Field(min_length=1)
    reason: str
    owner: str
    start: date
    expires: date
    review: date
    condition: list[ConditionDocument] = []


HEAD = "# An exception of Door Stone. Files decide nothing: what differs is asked for, and approved as ever.\n"


def write_exception(terms: FileTerms) -> str:
    """The text of a file."""
    data: dict[str, Any] = {"format": 1}
    if terms.exception:
        data |= {"exception": terms.exception, "version": terms.version, "state": terms.state}
    data |= {
        "platform": terms.platform,
        "release": terms.release,
        "up_to": terms.up_to,
        "requirements": list(terms.requirements),
        "devices": list(terms.devices),
        "reason": terms.reason,
        "owner": terms.owner,
        "start": terms.start,
        "expires": terms.expires,
        "review": terms.review,
    }
    if terms.conditions:
        data["condition"] = [_condition(one) for one in terms.conditions]
    return HEAD + tomli_w.dumps(data)


def _condition(one: FileCondition) -> dict[str, Any]:
    held = {"text": one.text, "facts": one.fact_condition, "due_on": one.due_on, "every_days": one.every_days}
    return {name: value for name, value in held.items() if value not in ("", None)}


def read_exception(text: str) -> FileTerms:
    """The terms of a file. Raises `ExceptionFileError` with every place that is wrong."""
    try:
        raw = read_toml(text)
    except TomlError as error:
        raise ExceptionFileError([SheetProblem(error.line, "TOML", error.message, error.hint)]) from error
    locate = TomlPlaces(text)
    try:
        found = ExceptionDocument.model_validate(raw)
    except ValidationError as error:
        problems = shape_problems(locate, error)
        raise ExceptionFileError(problems) from error
    wrong = [
        SheetProblem(locate(("condition", at)), f"condition[{at + 1}]", "It has neither or both of text and facts",
                     "Give exactly one of them")
        for at, one in enumerate(found.condition)
        if bool(one.text) == bool(one.facts)
    ]  # fmt: skip
    if wrong:
        raise ExceptionFileError(wrong)
    conditions = tuple(
        FileCondition(c.text.strip().rstrip("."), c.facts, c.due_on, c.every_days) for c in found.condition
    )
    return FileTerms(
        found.exception,
        found.version,
        found.state,
        found.platform,
        found.release,
        found.up_to,
        tuple(sorted(set(found.requirements))),
        tuple(sorted(set(found.devices))),
        found.reason.strip(),
        found.owner,
        found.start,
        found.expires,
        found.review,
        conditions,
    )
