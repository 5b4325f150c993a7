"""What all shapes on the wire share: the base models, problem documents, devices that change their state.

A shape is built when it is first used: a command uses few of them, and all would take a quarter of its start.
"""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

KitRoute = Literal["in-place", "clean"]


class ApiModel(BaseModel):
    """A shape on the wire, made from an object of core or work by its attributes."""

    model_config = ConfigDict(from_attributes=True, defer_build=True)


class RequestModel(BaseModel):
    """Something sent to the service: unknown keys are refused."""

    model_config = ConfigDict(extra="forbid", defer_build=True)


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


class StateMoveResponse(ApiModel):
    """Devices whose state at a release changes; `was` is empty for devices that are new."""

    platform: str
    release: str
    was: str
    becomes: str
    count: int
    devices: list[str]


ONE_LINE = r"^[^\x00-\x1f\x7f]*$"
