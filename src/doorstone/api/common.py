"""What all shapes on the wire share: the base models, problem documents, devices that change their state.

A shape is built when it is first used: a command uses few of them, and all would take a quarter of its start.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from doorstone.core.exceptions.run import Began
from doorstone.core.text import hidden_character

KitRoute = Literal["in-place", "clean"]


class ApiModel(BaseModel):
    """A shape on the wire, made from an object of core or work by its attributes."""

    model_config = ConfigDict(from_attributes=True, defer_build=True)


class RequestModel(BaseModel):
    """Something sent to the service: unknown keys are refused, and so are characters that change how text is shown."""

    model_config = ConfigDict(extra="forbid", defer_build=True)

    @model_validator(mode="before")
    @classmethod
    def _plain_text(cls, data: Any) -> Any:
        check_plain(data)
        return data


def check_plain(data: Any) -> None:
    """Raise `ValueError` if a text in the data has a control character, or one that changes the direction of text."""
    if isinstance(data, str):
        if found := hidden_character(data):
            raise ValueError(f"The text has the character {found}, which changes how text is shown. Remove it")
    elif isinstance(data, Mapping):
        for name, value in data.items():
            check_plain(name)
            check_plain(value)
    elif isinstance(data, list | tuple):
        for value in data:
            check_plain(value)


class ErrorEntry(ApiModel):
    """One place that is wrong: where it is, what is wrong there, and what to do."""

    pointer: str
    detail: str
    hint: str


class Problem(ApiModel):
    """A problem document (RFC 9457), with what to do about it and every place that is wrong."""

    type: str
    title: str
    status: int
    detail: str
    instance: str = ""
    hint: str = ""
    errors: list[ErrorEntry] = []


class UncoveredBrief(ApiModel):
    """That a device runs its release without permission, and since when."""

    requirements: list[str] = Field(description="The installer checks that no exception in force names")
    since: date
    exact: bool = Field(description="Whether that is the first day; if not, since at least")
    began: Began


class StateMoveResponse(ApiModel):
    """Devices whose state at a release changes; `was` is empty for devices that are new."""

    platform: str
    release: str
    was: str
    becomes: str
    count: int
    devices: list[str]


ONE_LINE = r"^[^\x00-\x1f\x7f]*$"
