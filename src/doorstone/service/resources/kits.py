"""Kits: made, read, downloaded."""

from __future__ import annotations

from dataclasses import asdict

from doorstone.formats.wire import Asked, KitAsked, KitDetail, KitFileShape, KitList, KitShape
from doorstone.service.operations import EVERYONE, HANDS, Answer, Call, Operations
from doorstone.store.kits import KitRow
from doorstone.work import kits
from doorstone.work.kits import Kit

operations = Operations("kits")


class KitQuery(Asked):
    device: str = ""


def _shape(name: str, row: KitRow) -> KitShape:
    return KitShape.model_validate({**asdict(row), "id": name})


def _detail(kit: Kit) -> KitDetail:
    files = [KitFileShape.model_validate(file) for file in kit.files]
    return KitDetail(kit=_shape(kit.id, kit.row), files=files)


@operations("GET", "/kits", "List kits", roles=EVERYONE, query=KitQuery, answer=KitList)
def list_kits(call: Call[KitQuery, None]) -> KitList:
    return KitList(items=[_shape(name, row) for name, row in kits.list_kits(call.desk, call.query.device)])


@operations("POST", "/kits", "Make a kit", roles=HANDS, body=KitAsked, answer=KitDetail, status=201, creates=True)
def make_kit(call: Call[None, KitAsked]) -> KitDetail:
    a = call.body
    return _detail(kits.make_kit(call.desk, call.actor, a.device, a.release, a.route, a.carry_over))


@operations("GET", "/kits/<kit>", "One kit with its files", roles=EVERYONE, answer=KitDetail)
def get_kit(call: Call[None, None]) -> KitDetail:
    return _detail(kits.get_kit(call.desk, call.path["kit"]))


@operations("GET", "/kits/<kit>/archive", "The kit as a zip", roles=EVERYONE, media_type="application/zip")
def download_kit(call: Call[None, None]) -> Answer:
    name = call.path["kit"]
    data = kits.kit_archive(call.desk, name)
    return Answer(data, media_type="application/zip", file_name=f"{name}.zip")
