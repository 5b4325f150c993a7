"""Set-up media: recorded, verified, withdrawn; the plan of a batch."""

from __future__ import annotations

from msgspec.structs import asdict

from doorstone.api.common import RequestModel
from doorstone.api.media import (
    MediaList,
    MediaPlanRequest,
    MediaPlanResponse,
    MediaRequest,
    MediaResponse,
    MediaUseResponse,
    MediaVerifyRequest,
    MediaWithdrawRequest,
    MismatchResponse,
)
from doorstone.service.operations import EVERYONE, HANDS, Call, Operations
from doorstone.work import media
from doorstone.work.media import MediaView, NewMedia
from doorstone.work.snapshot.selecting import devices_of

operations = Operations("media")


class MediaQuery(RequestModel):
    platform: str = ""
    withdrawn: bool = False


def _shape(view: MediaView) -> MediaResponse:
    more = {"id": view.id, "verified": view.media.verified, "needs_gb": view.media.needs_gb}
    return MediaResponse.model_validate({**asdict(view.row), **more, "defects": list(view.defects)})


@operations("GET", "/media", "List media, newest first", roles=EVERYONE, query=MediaQuery, answer=MediaList)
def list_media(call: Call[MediaQuery, None]) -> MediaList:
    found = media.list_media(call.context, call.query.platform, call.query.withdrawn)
    return MediaList(items=[_shape(view) for view in found])


@operations(
    "POST", "/media", "Record a media", roles=HANDS, body=MediaRequest, answer=MediaResponse, status=201, creates=True
)
def add_media(call: Call[None, MediaRequest]) -> MediaResponse:
    a = call.body
    given = NewMedia(
        a.platform, a.release, a.asked or a.release, tuple(a.editions), a.language, a.arch, a.partition_table, a.size,
        a.sha256, a.published_sha256.lower(), a.origin, a.maker, a.link, a.link_ends, a.stick_gb,
    )  # fmt: skip
    return _shape(media.add_media(call.context, call.actor, given))


@operations("POST", "/media/plan", "Which media a batch needs", roles=EVERYONE, body=MediaPlanRequest,
            answer=MediaPlanResponse, asks=True)  # fmt: skip
def media_plan(call: Call[None, MediaPlanRequest]) -> MediaPlanResponse:
    a = call.body
    where = a.where.chosen()
    devices = a.devices or devices_of(call.context, a.platform, a.release, where, a.selection)
    plan = media.plan_media(call.context, devices, a.release, a.sticks_per_site)
    uses = [
        MediaUseResponse(
            media=u.media.id,
            what=f"{u.media.release}, {u.media.language}, {u.media.arch}, {' and '.join(u.media.editions)}",
            devices=list(u.devices),
            sticks=dict(u.sticks),
            stick_gb=u.stick_gb,
            defects=list(u.defects),
        )
        for u in plan.uses
    ]
    mismatches = [MismatchResponse.model_validate(m) for m in plan.mismatches]
    return MediaPlanResponse(release=plan.release, uses=uses, mismatches=mismatches)


@operations("GET", "/media/<media>", "One media", roles=EVERYONE, answer=MediaResponse)
def get_media(call: Call[None, None]) -> MediaResponse:
    return _shape(media.get_media(call.context, call.path["media"]))


@operations(
    "POST", "/media/<media>/verification", "Record the SHA-256 that the vendor publishes",
    roles=HANDS, body=MediaVerifyRequest,
    answer=MediaResponse,
)  # fmt: skip
def verify_media(call: Call[None, MediaVerifyRequest]) -> MediaResponse:
    return _shape(media.verify_media(call.context, call.actor, call.path["media"], call.body.published_sha256))


@operations(
    "POST", "/media/<media>/withdrawal", "Take a media out of use", roles=HANDS, body=MediaWithdrawRequest,
    answer=MediaResponse,
)  # fmt: skip
def withdraw_media(call: Call[None, MediaWithdrawRequest]) -> MediaResponse:
    return _shape(media.withdraw_media(call.context, call.actor, call.path["media"], call.body.why))
