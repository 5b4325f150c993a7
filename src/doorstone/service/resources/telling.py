"""What is due, as a list and as a calendar; and the addresses that are told what happens."""

from __future__ import annotations

from dataclasses import asdict

from pydantic import Field
from werkzeug.exceptions import NotFound

from doorstone.core.due import Due, DueKind
from doorstone.formats.calendar import calendar
from doorstone.formats.wire import Asked
from doorstone.formats.wire_people import (
    CalendarShape,
    DeliveryList,
    DeliveryShape,
    DueList,
    DueShape,
    HookAsked,
    HookList,
    HookShape,
)
from doorstone.service import access
from doorstone.service.operations import ADMINISTRATORS, EVERYONE, PUBLIC, Answer, Call, Operations
from doorstone.work import calendars, due, telling
from doorstone.work.desk import id_of
from doorstone.work.telling import Hook

operations = Operations("telling")


class DueQuery(Asked):
    mine: bool = Field(False, description="Only what concerns the caller")
    kind: DueKind | None = Field(None, description="Only this kind, such as drift or uncovered")


class DeliveryQuery(Asked):
    limit: int = Field(100, ge=1, le=1000)


@operations("GET", "/due", "What is due", roles=EVERYONE, query=DueQuery, answer=DueList)
def list_due(call: Call[DueQuery, None]) -> DueList:
    today = call.desk.today()

    def shape(one: Due) -> DueShape:
        fields = {name: getattr(one, name) for name in ("on", "object_kind", "object", "words")}
        return DueShape.model_validate({**fields, "kind": one.kind.value, "overdue": one.overdue(today)})

    found = due.due_list(call.desk, call.actor.name if call.query.mine else "")
    return DueList(items=[shape(one) for one in found if call.query.kind in (None, one.kind)])


@operations(
    "POST", "/me/calendar", "Make a new address for one's calendar", roles=EVERYONE, answer=CalendarShape, own=True
)
def make_calendar(call: Call[None, None]) -> CalendarShape:
    return CalendarShape(path=f"/api/v1/calendar/{calendars.make_calendar(call.desk, call.actor)}.ics")


@operations("DELETE", "/me/calendar", "Revoke the address of one's calendar", roles=EVERYONE, status=204, own=True)
def revoke_calendar(call: Call[None, None]) -> DueList:
    calendars.revoke_calendar(call.desk, call.actor)
    return DueList(items=[])


@operations(
    "GET", "/calendar/<secret>", "A person's due dates as iCalendar; the address is the key", roles=PUBLIC,
    media_type="text/calendar",
)  # fmt: skip
def read_calendar(call: Call[None, None]) -> Answer:
    found = due.of_calendar(call.desk, call.path["secret"].removesuffix(".ics"))
    if found is None:
        raise NotFound("there is no such calendar, or its address was revoked")
    name, items = found
    data = calendar(f"Door Stone, {name}", items, call.desk.clock.now(), access.the_door().address)
    return Answer(data, media_type="text/calendar; charset=utf-8")


def _hook(hook: Hook) -> HookShape:
    row = {name: value for name, value in asdict(hook.row).items() if name not in ("id", "secret")}
    return HookShape.model_validate({**row, "id": hook.id, "secret": hook.secret})


@operations("GET", "/hooks", "List the addresses that are told", roles=ADMINISTRATORS, answer=HookList)
def list_hooks(call: Call[None, None]) -> HookList:
    return HookList(items=[_hook(hook) for hook in telling.list_hooks(call.desk)])


@operations(
    "POST", "/hooks", "Have an address told of events", roles=ADMINISTRATORS, body=HookAsked, answer=HookShape,
    status=201, creates=True,
)  # fmt: skip
def add_hook(call: Call[None, HookAsked]) -> HookShape:
    return _hook(telling.add_hook(call.desk, call.actor, call.body.url, tuple(call.body.kinds)))


@operations("DELETE", "/hooks/<hook>", "Tell an address nothing more", roles=ADMINISTRATORS, answer=HookShape)
def remove_hook(call: Call[None, None]) -> HookShape:
    return _hook(telling.remove_hook(call.desk, call.actor, call.path["hook"]))


@operations("POST", "/hooks/<hook>/trial", "Send an address an event to try it", roles=ADMINISTRATORS, status=204)
def try_hook(call: Call[None, None]) -> HookList:
    telling.try_hook(call.desk, call.actor, call.path["hook"])
    return HookList(items=[])


@operations(
    "GET", "/hooks/<hook>/deliveries", "What was sent to an address", roles=ADMINISTRATORS, query=DeliveryQuery,
    answer=DeliveryList,
)  # fmt: skip
def list_deliveries(call: Call[DeliveryQuery, None]) -> DeliveryList:
    found = telling.list_deliveries(call.desk, call.path["hook"], call.query.limit)
    rows = [{**asdict(one), "hook": id_of("HK", one.hook) if one.hook else ""} for one in found]
    return DeliveryList(items=[DeliveryShape.model_validate(row) for row in rows])
