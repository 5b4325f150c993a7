"""Set-up media: recorded, verified, withdrawn; the plan of a batch."""

from __future__ import annotations

from dataclasses import asdict

from doorstone.formats.wire import Asked
from doorstone.formats.wire_kits import (
    MediaAsked,
    MediaList,
    MediaPlanAsked,
    MediaPlanShape,
    MediaShape,
    MediaUseShape,
    MediaVerifyAsked,
    MediaWithdrawAsked,
    MismatchShape,
)
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.store.devices import Filter
from doorstone.work import media
from doorstone.work.media import MediaGiven, MediaView
from doorstone.work.selections import devices_of

operations = Operations("media")


class MediaQuery(Asked):
    platform: str = ""
    withdrawn: bool = False


def _shape(view: MediaView) -> MediaShape:
    more = {"id": view.id, "verified": view.media.verified, "needs_gb": view.media.needs_gb}
    return MediaShape.model_validate({**asdict(view.row), **more, "troubles": list(view.troubles)})


@operations("GET", "/media", "List media, newest first", roles=EVERYONE, query=MediaQuery, answer=MediaList)
def list_media(call: Call[MediaQuery, None]) -> MediaList:
    found = media.list_media(call.desk, call.query.platform, call.query.withdrawn)
    return MediaList(items=[_shape(view) for view in found])


@operations(
    "POST", "/media", "Record a media", roles=HANDS, body=MediaAsked, answer=MediaShape, status=201, creates=True
)
def add_media(call: Call[None, MediaAsked]) -> MediaShape:
    a = call.body
    given = MediaGiven(
        a.platform, a.release, a.asked or a.release, tuple(a.editions), a.language, a.arch, a.partition_table, a.size,
        a.sha256, a.published_sha256.lower(), a.origin, a.maker, a.link, a.link_ends, a.stick_gb,
    )  # fmt: skip
    return _shape(media.add_media(call.desk, call.actor, given))


@operations("POST", "/media/plan", "Which media a batch needs", roles=EVERYONE, body=MediaPlanAsked,
            answer=MediaPlanShape)  # fmt: skip
def media_plan(call: Call[None, MediaPlanAsked]) -> MediaPlanShape:
    a = call.body
    where = Filter(**a.where.model_dump())
    devices = a.devices or devices_of(call.desk, a.platform, a.release, where, a.selection)
    plan = media.plan_media(call.desk, devices, a.release, a.sticks_per_site)
    uses = [
        MediaUseShape(
            media=u.media.id,
            what=f"{u.media.release}, {u.media.language}, {u.media.arch}, {' and '.join(u.media.editions)}",
            devices=list(u.devices),
            sticks=dict(u.sticks),
            stick_gb=u.stick_gb,
            troubles=list(u.troubles),
        )
        for u in plan.uses
    ]
    mismatches = [MismatchShape.model_validate(m) for m in plan.mismatches]
    return MediaPlanShape(release=plan.release, uses=uses, mismatches=mismatches)


@operations("GET", "/media/<media>", "One media", roles=EVERYONE, answer=MediaShape)
def get_media(call: Call[None, None]) -> MediaShape:
    return _shape(media.get_media(call.desk, call.path["media"]))


@operations(
    "POST", "/media/<media>/verification", "Say what its published SHA-256 is", roles=HANDS, body=MediaVerifyAsked,
    answer=MediaShape,
)  # fmt: skip
def verify_media(call: Call[None, MediaVerifyAsked]) -> MediaShape:
    return _shape(media.verify_media(call.desk, call.actor, call.path["media"], call.body.published_sha256))


@operations(
    "POST", "/media/<media>/withdrawal", "Take a media out of use", roles=HANDS, body=MediaWithdrawAsked,
    answer=MediaShape,
)  # fmt: skip
def withdraw_media(call: Call[None, MediaWithdrawAsked]) -> MediaShape:
    return _shape(media.withdraw_media(call.desk, call.actor, call.path["media"], call.body.why))
