"""The due list, calendars, and webhooks."""

from __future__ import annotations

from msgspec.structs import asdict
from pydantic import Field
from werkzeug.exceptions import NotFound

from doorstone.api.common import RequestModel
from doorstone.api.due import CalendarResponse, DueList, DueResponse
from doorstone.api.notifications import DeliveryList, DeliveryResponse, WebhookList, WebhookRequest, WebhookResponse
from doorstone.core.due.items import Due, DueKind
from doorstone.formats.icalendar import calendar as icalendar
from doorstone.service import auth
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, PUBLIC, Answer, Call, Operations
from doorstone.work.context.ids import id_of
from doorstone.work.due import due_list as due
from doorstone.work.notifications import calendar, webhooks
from doorstone.work.notifications.webhooks import Webhook

operations = Operations("notifications")


class DueQuery(RequestModel):
    mine: bool = Field(False, description="Only what concerns the caller")
    kind: DueKind | None = Field(None, description="Only this kind, such as drift or uncovered")


class DeliveryQuery(RequestModel):
    limit: int = Field(100, ge=1, le=1000)


@operations("GET", "/due", "What is due", roles=EVERYONE, query=DueQuery, answer=DueList)
def list_due(call: Call[DueQuery, None]) -> DueList:
    today = call.context.today()

    def shape(one: Due) -> DueResponse:
        fields = {name: getattr(one, name) for name in ("on", "object_kind", "object", "words", "late_cost")}
        return DueResponse.model_validate({**fields, "kind": one.kind.value, "overdue": one.overdue(today)})

    found = due.due_list(call.context, call.actor.name if call.query.mine else "")
    return DueList(items=[shape(one) for one in found if call.query.kind in (None, one.kind)])


@operations(
    "POST", "/me/calendar", "Make a new address for your calendar", roles=EVERYONE, answer=CalendarResponse, own=True
)
def make_calendar(call: Call[None, None]) -> CalendarResponse:
    return CalendarResponse(path=f"/api/v1/calendar/{calendar.make_calendar(call.context, call.actor)}.ics")


@operations("DELETE", "/me/calendar", "Revoke the address of your calendar", roles=EVERYONE, status=204, own=True)
def revoke_calendar(call: Call[None, None]) -> DueList:
    calendar.revoke_calendar(call.context, call.actor)
    return DueList(items=[])


@operations(
    "GET", "/calendar/<secret>", "A person's due dates as iCalendar; the address is the key", roles=PUBLIC,
    media_type="text/calendar",
)  # fmt: skip
def read_calendar(call: Call[None, None]) -> Answer:
    found = due.of_calendar(call.context, call.path["secret"].removesuffix(".ics"))
    if found is None:
        raise NotFound("there is no such calendar, or its address was revoked")
    name, items = found
    data = icalendar(f"Door Stone, {name}", items, call.context.moment(), auth.auth_settings().address)
    return Answer(data, media_type="text/calendar; charset=utf-8")


def _webhook(webhook: Webhook) -> WebhookResponse:
    row = {name: value for name, value in asdict(webhook.row).items() if name not in ("id", "secret")}
    return WebhookResponse.model_validate({**row, "id": webhook.id, "secret": webhook.secret})


@operations("GET", "/webhooks", "List webhooks", roles=ADMINISTRATORS, answer=WebhookList)
def list_webhooks(call: Call[None, None]) -> WebhookList:
    return WebhookList(items=[_webhook(webhook) for webhook in webhooks.list_webhooks(call.context)])


@operations(
    "POST", "/webhooks", "Add a webhook", roles=ADMINISTRATORS, body=WebhookRequest,
    answer=WebhookResponse, status=201, creates=True,
)  # fmt: skip
def add_webhook(call: Call[None, WebhookRequest]) -> WebhookResponse:
    return _webhook(webhooks.add_webhook(call.context, call.actor, call.body.url, tuple(call.body.kinds)))


@operations("DELETE", "/webhooks/<webhook>", "Remove a webhook", roles=ADMINISTRATORS, answer=WebhookResponse)
def remove_webhook(call: Call[None, None]) -> WebhookResponse:
    return _webhook(webhooks.remove_webhook(call.context, call.actor, call.path["webhook"]))


@operations("POST", "/webhooks/<webhook>/trial", "Send a test event to a webhook", roles=ADMINISTRATORS, status=204)
def try_webhook(call: Call[None, None]) -> WebhookList:
    webhooks.try_webhook(call.context, call.actor, call.path["webhook"])
    return WebhookList(items=[])


@operations(
    "GET", "/webhooks/<webhook>/deliveries", "Deliveries of a webhook", roles=ADMINISTRATORS, query=DeliveryQuery,
    answer=DeliveryList,
)  # fmt: skip
def list_deliveries(call: Call[DeliveryQuery, None]) -> DeliveryList:
    found = webhooks.list_deliveries(call.context, call.path["webhook"], call.query.limit)
    rows = [{**asdict(one), "webhook": id_of("HK", one.webhook) if one.webhook else ""} for one in found]
    return DeliveryList(items=[DeliveryResponse.model_validate(row) for row in rows])
