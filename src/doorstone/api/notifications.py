"""Webhooks on the wire, and what was delivered."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from doorstone.api.common import ApiModel, RequestModel
from doorstone.api.times import Moment


class WebhookRequest(RequestModel):
    """A webhook to add: where events are sent, and which."""

    url: str = Field(max_length=1000)
    kinds: list[str] = Field([], max_length=50, description="Kinds of events, such as exception; none means all")


class WebhookResponse(ApiModel):
    """A webhook."""

    id: str
    url: str
    kinds: list[str]
    active: bool
    by: str
    at: Moment
    secret: str | None = Field(None, description="Signs what is sent; shown once, when the webhook is added")


class WebhookList(ApiModel):
    """Webhooks, removed ones included."""

    items: list[WebhookResponse]


class DeliveryResponse(ApiModel):
    """An event or mail on its way, and what the last try answered."""

    id: int
    webhook: str
    person: str
    event: str
    kind: str
    state: Literal["waiting", "done", "given-up"]
    tries: int
    answer: str
    made_at: Moment


class DeliveryList(ApiModel):
    """Deliveries, newest first."""

    items: list[DeliveryResponse]
