"""Disputes on the wire: what sources say, and settlements."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment


class SideResponse(ApiModel):
    value: str
    source: str
    trust: int
    taken_at: Moment
    outcome: str
    believed: bool


class DisputeResponse(ApiModel):
    device: str
    name: str
    site: str
    kind: Literal["fact", "requirement"]
    subject: str
    title: str
    requirements: list[str]
    sides: list[SideResponse]


class DisputeList(ApiModel):
    items: list[DisputeResponse]


class SettlementRequest(RequestModel):
    device: str
    kind: Literal["fact", "requirement"] = "fact"
    subject: str = Field(max_length=200, description="A fact, or a requirement whose verdict speaks against the facts")
    value: Any = Field(description="Of a fact: what one of the sources says. Of a requirement: met or unmet")
    reason: str = Field(max_length=2000)


class SettlementResponse(ApiModel):
    id: str
    device: str
    kind: Literal["fact", "requirement"]
    subject: str
    value: str
    reason: str
    by: str
    at: Moment
    stands: bool = Field(description="False once something newer has been read of the subject")


class SettlementList(ApiModel):
    items: list[SettlementResponse]
