"""Exceptions: requested, viewed, decided, looked after, handed over."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, Literal

from msgspec.structs import asdict, replace
from pydantic import Field

from doorstone.api.common import ErrorEntry, RequestModel
from doorstone.api.exceptions import (
    AccountResponse,
    AttachmentRequest,
    AttestRequest,
    CommentRequest,
    ConditionRequest,
    ConsequenceList,
    ConsequenceResponse,
    ExceptionBatchResponse,
    ExceptionList,
    ExceptionRequest,
    ExceptionResponse,
    ExceptionTermsRequest,
    FolderChangesRequest,
    FolderDifferenceList,
    FolderDifferenceResponse,
    FolderDoneList,
    FolderDoneResponse,
    FolderRequest,
    KeptResponse,
    ManyMovesRequest,
    ManyOwnersRequest,
    MoveRequest,
    OtherExceptionResponse,
    OwnerRequest,
    PermissionResponse,
    RenewalsRequest,
    RequestCheckResponse,
    RequestGroupResponse,
    ReviewRequest,
    RiskRequest,
    RiskResponse,
    UncoveredList,
    UncoveredResponse,
)
from doorstone.core.exceptions.requests import NewAttachment, NewCondition, NewException, NewTerms
from doorstone.core.kits.files import archive
from doorstone.formats.safe_csv import csv_text
from doorstone.service.auth import role_at
from doorstone.service.operations import ADMINISTRATORS, DECIDERS, EVERYONE, HANDS, Answer, Call, Operations, page_alone
from doorstone.work.exceptions import activity, batch, decisions, folder, register, uncovered
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.exceptions.batch import BatchView, Renewal
from doorstone.work.exceptions.decisions import Part
from doorstone.work.exceptions.requests import ExceptionView
from doorstone.work.snapshot.approvals import KeptView
from doorstone.work.snapshot.sheets import get_sheet

operations = Operations("exceptions")
ALL_HANDS = HANDS | DECIDERS


class ExceptionQuery(RequestModel):
    state: str = ""
    device: str = ""
    owner: str = ""
    order: Literal["newest", "risk"] = Field("newest", description="The newest first, or the most residual risk")


class RiskQuery(RequestModel):
    platform: str = ""
    release: str = ""


class ExportQuery(RequestModel):
    form: Literal["csv", "json", "oscal"] = "csv"


class AccountQuery(RequestModel):
    release: str = ""


class UncoveredQuery(RequestModel):
    platform: str = ""
    site: str = Field("", description="One site; `no site` for devices that have none")
    device: str = ""
    cursor: str = ""
    limit: int = Field(500, ge=1, le=1000)


def _touched(call: Call[Any, Any]) -> Iterable[str]:
    """The devices of the exception in the path."""
    return exceptions.get_exception(call.context, call.path["exception"]).row.devices


def _kept(view: KeptView) -> KeptResponse:
    more = {
        "kind": "facts" if view.fact_condition is not None else "attested",
        "every_days": view.every_days,
        "fact_condition": view.fact_condition,
        "devices": dict(view.devices),
        "attested": list(view.attested),
    }
    return KeptResponse.model_validate({**asdict(view.kept), **more})


def _shape(call: Call[Any, Any], view: ExceptionView) -> ExceptionResponse:
    actor = replace(call.actor, role=role_at(call, view.row.devices))
    row = {name: value for name, value in asdict(view.row).items() if name not in ("id", "state", "shown")}
    return ExceptionResponse.model_validate(
        {
            **row,
            "id": view.id,
            "state": view.state,
            "in_force": view.in_force,
            "stale": dict(view.stale),
            "stale_moved_on": dict(view.stale_moved_on),
            "moves": list(view.moves),
            "actions": list(exceptions.actions_of(call.context, actor, view)),
            "conditions": [_kept(one) for one in view.kept],
            "renews": view.renews,
            "renewed_by": view.renewed_by,
            "residual": view.residual,
            "refused": [ErrorEntry.model_validate(entry) for entry in view.refused],
        }
    )


def _answer(call: Call[Any, Any], view: ExceptionView) -> Answer:
    return Answer(_shape(call, view), etag=f"v{view.row.version}")


def _condition(request: ConditionRequest) -> NewCondition:
    return NewCondition(request.text, request.fact_condition, request.due_on, request.every_days)


def _attachment(request: AttachmentRequest) -> NewAttachment:
    return NewAttachment(request.title, request.link, request.sha256)


def _terms(request: ExceptionTermsRequest) -> NewTerms:
    return NewTerms(
        request.reason.strip(),
        tuple(_condition(one) for one in request.conditions),
        request.owner.strip(),
        request.start_on,
        request.expires_on,
        request.review_on,
    )


def _asked(a: ExceptionRequest) -> NewException:
    return NewException(
        a.release,
        a.up_to,
        tuple(a.requirements),
        tuple(a.devices),
        a.risk_acknowledged,
        _terms(a),
        a.notice_acknowledged,
        a.selection,
        a.platform,
        a.go_on,
        a.renews,
        tuple(_attachment(one) for one in a.attachments),
    )


@operations(
    "GET",
    "/risk",
    "The risk statement that a requester acknowledges",
    roles=EVERYONE,
    query=RiskQuery,
    answer=RiskResponse,
)
def get_risk(call: Call[RiskQuery, None]) -> RiskResponse:
    platform = get_sheet(call.context, call.query.platform).platform if call.query.platform else None
    return RiskResponse.model_validate(exceptions.risk(call.context, platform, call.query.release))


@operations("PUT", "/risk", "Replace the risk statement", roles=ADMINISTRATORS, body=RiskRequest, answer=RiskResponse)
def change_risk(call: Call[None, RiskRequest]) -> RiskResponse:
    return RiskResponse.model_validate(exceptions.change_risk(call.context, call.actor, call.body.text))


@operations("GET", "/exceptions", "List exceptions", roles=EVERYONE, query=ExceptionQuery, answer=ExceptionList)
def list_exceptions(call: Call[ExceptionQuery, None]) -> ExceptionList:
    views = exceptions.list_exceptions(
        call.context, call.query.state, call.query.device, call.query.owner, by_risk=call.query.order == "risk"
    )
    return ExceptionList(items=[_shape(call, view) for view in views])


@operations(
    "GET", "/exceptions/export", "The register to hand over: CSV, JSON, or an OSCAL plan of action and milestones",
    roles=EVERYONE, query=ExportQuery, media_type="text/csv, application/json",
)  # fmt: skip
def export_exceptions(call: Call[ExportQuery, None]) -> Answer:
    if call.query.form == "csv":
        rows = register.rows(call.context)
        text = csv_text(register.COLUMNS, [list(row.values()) for row in rows])
        return Answer(text.encode(), media_type="text/csv; charset=utf-8", file_name="exceptions.csv")
    found: Any = register.rows(call.context) if call.query.form == "json" else register.oscal(call.context)
    name = "exceptions.json" if call.query.form == "json" else "plan-of-action.json"
    return Answer(json.dumps(found, indent=1, ensure_ascii=False).encode(), file_name=name)


class FolderQuery(RequestModel):
    every: bool = Field(False, description="Those that have ended too")


@operations(
    "GET", "/exceptions/folder", "The register as a folder of TOML files, one each, zipped", roles=EVERYONE,
    query=FolderQuery, media_type="application/zip",
)  # fmt: skip
def exception_folder(call: Call[FolderQuery, None]) -> Answer:
    files = {name: text.encode() for name, text in folder.folder_files(call.context, every=call.query.every).items()}
    return Answer(archive("exceptions", files), media_type="application/zip", file_name="exceptions.zip")


@operations(
    "POST", "/exceptions/folder/comparison", "How a reviewed folder differs from the register", roles=EVERYONE,
    body=FolderRequest, answer=FolderDifferenceList, asks=True)  # fmt: skip
def compare_folder(call: Call[None, FolderRequest]) -> FolderDifferenceList:
    found = folder.compare(call.context, call.body.files)
    return FolderDifferenceList(items=[FolderDifferenceResponse.model_validate(one) for one in found])


@operations(
    "POST", "/exceptions/folder", "Request the differences between a reviewed folder and the register, all or none",
    roles=HANDS, body=FolderChangesRequest, answer=FolderDoneList,
    affected_devices=lambda call: folder.exceptions_of(call.context, call.body.files),
)  # fmt: skip
def request_folder(call: Call[None, FolderChangesRequest]) -> FolderDoneList:
    a = call.body
    given = folder.Acknowledged(a.risk_acknowledged, tuple(a.notices_acknowledged))
    made = folder.request_from_folder(call.context, call.actor, a.files, a.reference, given)
    return FolderDoneList(items=[FolderDoneResponse.model_validate(one) for one in made])


@operations(
    "POST", "/exceptions/check", "Check a request, device by device", roles=EVERYONE,
    body=ExceptionRequest, answer=RequestCheckResponse, asks=True)  # fmt: skip
def check_request(call: Call[None, ExceptionRequest]) -> RequestCheckResponse:
    found = exceptions.check(call.context, _asked(call.body))
    refused = [ErrorEntry.model_validate(entry) for entry in found.refused]
    terms = [ErrorEntry.model_validate(entry) for entry in found.terms]
    return RequestCheckResponse(platform=found.platform.id, devices=list(found.devices), refused=refused, terms=terms)


@operations(
    "POST", "/exceptions/each", "Request what each device needs, one exception for each distinct set of needs",
    roles=HANDS, body=ExceptionRequest, answer=ExceptionBatchResponse, status=201, creates=True,
    affected_devices=lambda call: batch.devices_of(call.context, _asked(call.body)),
)  # fmt: skip
def request_each(call: Call[None, ExceptionRequest]) -> ExceptionBatchResponse:
    return _batch(batch.request_each(call.context, call.actor, _asked(call.body)))


def _batch(found: BatchView) -> ExceptionBatchResponse:
    groups = [
        RequestGroupResponse(requirements=view.row.requirements, devices=view.row.devices, exception=view.id)
        for view in found.made
    ]
    return ExceptionBatchResponse(groups=groups, refused=[ErrorEntry.model_validate(one) for one in found.refused])


@operations(
    "POST", "/exceptions/renewals", "Renew several exceptions, all or none", roles=HANDS,
    body=RenewalsRequest, answer=ExceptionBatchResponse, status=201, creates=True,
    affected_devices=lambda call: batch.devices_named(call.context, call.body.exceptions),
)  # fmt: skip
def renew_exceptions(call: Call[None, RenewalsRequest]) -> ExceptionBatchResponse:
    a = call.body
    how = Renewal(a.expires_on, a.review_on, a.reason.strip(), a.risk_acknowledged, tuple(a.notices_acknowledged))
    return _batch(batch.renew_many(call.context, call.actor, a.exceptions, how))


@operations(
    "POST", "/exceptions/owners", "Transfer several exceptions to another owner, all or none", roles=ALL_HANDS,
    body=ManyOwnersRequest, answer=ExceptionList,
    affected_devices=lambda call: batch.devices_named(call.context, [one.exception for one in call.body.exceptions]),
)  # fmt: skip
def transfer_exceptions(call: Call[None, ManyOwnersRequest]) -> ExceptionList:
    a = call.body
    wanted = [(one.exception, one.version) for one in a.exceptions]
    found = batch.transfer_many(call.context, call.actor, wanted, a.owner, a.note)
    return ExceptionList(items=[_shape(call, view) for view in found])


@operations(
    "POST", "/exceptions/decisions", "Decide on several exceptions, all or none", roles=DECIDERS,
    body=ManyMovesRequest, answer=ExceptionList,
    affected_devices=lambda call: batch.devices_named(call.context, [one.exception for one in call.body.exceptions]),
)  # fmt: skip
def decide_exceptions(call: Call[None, ManyMovesRequest]) -> ExceptionList:
    a = call.body
    wanted = [(one.exception, one.version) for one in a.exceptions]
    found = batch.decide_many(call.context, call.actor, wanted, a.move, a.note)
    return ExceptionList(items=[_shape(call, view) for view in found])


@operations("GET", "/exceptions/<exception>", "One exception", roles=EVERYONE, answer=ExceptionResponse)
def get_exception(call: Call[None, None]) -> Answer:
    return _answer(call, exceptions.get_exception(call.context, call.path["exception"]))


@operations(
    "GET", "/exceptions/<exception>/page", "One exception as a page that stands alone", roles=EVERYONE,
    media_type="text/html",
)  # fmt: skip
def exception_page(call: Call[None, None]) -> Answer:
    return page_alone(*register.page(call.context, call.path["exception"]))


@operations(
    "GET", "/exceptions/<exception>/consequences", "What to do for each device once the exception no longer holds",
    roles=EVERYONE,
    answer=ConsequenceList,
)  # fmt: skip
def list_consequences(call: Call[None, None]) -> ConsequenceList:
    found = decisions.consequences(call.context, call.path["exception"])
    return ConsequenceList(items=[ConsequenceResponse.model_validate(one) for one in found])


@operations(
    "POST", "/exceptions", "Request an exception", roles=HANDS, body=ExceptionRequest, answer=ExceptionResponse,
    status=201, creates=True, affected_devices=lambda call: exceptions.check(call.context, _asked(call.body)).devices,
)  # fmt: skip
def request_exception(call: Call[None, ExceptionRequest]) -> Answer:
    return _answer(call, exceptions.request(call.context, call.actor, _asked(call.body)))


@operations(
    "PATCH", "/exceptions/<exception>", "Edit the terms while requested", roles=HANDS, body=ExceptionTermsRequest,
    answer=ExceptionResponse, match=True, affected_devices=_touched,
)  # fmt: skip
def edit_exception(call: Call[None, ExceptionTermsRequest]) -> Answer:
    assert call.version is not None
    terms = _terms(call.body)
    return _answer(call, exceptions.edit(call.context, call.actor, call.path["exception"], call.version, terms))


@operations(
    "POST", "/exceptions/<exception>/decision",
    "Approve all or a part, decline, revoke, close, or confirm on a second look",
    roles=DECIDERS, body=MoveRequest, answer=ExceptionResponse, match=True, affected_devices=_touched,
)  # fmt: skip
def decide_exception(call: Call[None, MoveRequest]) -> Answer:
    a = call.body
    part = Part(tuple(a.devices), tuple(a.requirements))
    name = call.path["exception"]
    return _answer(call, decisions.decide(call.context, call.actor, name, a.move, a.note, call.version, part))


@operations(
    "POST", "/exceptions/<exception>/withdrawal", "Withdraw your own request", roles=HANDS, answer=ExceptionResponse,
    match=True, affected_devices=_touched,
)  # fmt: skip
def withdraw_exception(call: Call[None, None]) -> Answer:
    return _answer(
        call, decisions.decide(call.context, call.actor, call.path["exception"], "withdraw", "", call.version)
    )


@operations(
    "POST", "/exceptions/<exception>/comments", "Comment, ask back, or answer", roles=ALL_HANDS, body=CommentRequest,
    answer=ExceptionResponse, creates=True, affected_devices=_touched,
)  # fmt: skip
def comment_exception(call: Call[None, CommentRequest]) -> Answer:
    a = call.body
    return _answer(
        call, activity.comment(call.context, call.actor, call.path["exception"], a.text, question=a.question)
    )


@operations(
    "POST", "/exceptions/<exception>/attestations", "Attest that a condition is met", roles=ALL_HANDS,
    body=AttestRequest, answer=ExceptionResponse, creates=True, affected_devices=_touched,
)  # fmt: skip
def attest_condition(call: Call[None, AttestRequest]) -> Answer:
    a = call.body
    return _answer(call, activity.attest(call.context, call.actor, call.path["exception"], a.condition, a.note))


@operations(
    "POST", "/exceptions/<exception>/attachments", "Attach evidence by link and hash", roles=ALL_HANDS,
    body=AttachmentRequest, answer=ExceptionResponse, creates=True, affected_devices=_touched,
)  # fmt: skip
def attach_evidence(call: Call[None, AttachmentRequest]) -> Answer:
    return _answer(call, activity.attach(call.context, call.actor, call.path["exception"], _attachment(call.body)))


@operations(
    "PUT", "/exceptions/<exception>/owner", "Transfer an exception to another owner",
    roles=ALL_HANDS, body=OwnerRequest,
    answer=ExceptionResponse, match=True, affected_devices=_touched,
)  # fmt: skip
def transfer_exception(call: Call[None, OwnerRequest]) -> Answer:
    a = call.body
    return _answer(
        call, activity.transfer(call.context, call.actor, call.path["exception"], call.version, a.owner, a.note)
    )


@operations(
    "POST", "/exceptions/<exception>/reviews", "Record a review", roles=ALL_HANDS, body=ReviewRequest,
    answer=ExceptionResponse, match=True, affected_devices=_touched,
)  # fmt: skip
def review_exception(call: Call[None, ReviewRequest]) -> Answer:
    a = call.body
    return _answer(
        call, activity.review(call.context, call.actor, call.path["exception"], call.version, a.next_on, a.note)
    )


@operations(
    "GET", "/devices/<device>/account", "Who allowed what on a device, and whether it still holds", roles=EVERYONE,
    query=AccountQuery, answer=AccountResponse,
)  # fmt: skip
def device_account(call: Call[AccountQuery, None]) -> AccountResponse:
    found = register.account(call.context, call.path["device"], call.query.release)
    return AccountResponse(
        device=found.device,
        runs=found.runs,
        release=found.release,
        permissions=[_permission(p) for p in found.permissions],
        others=[OtherExceptionResponse.model_validate(one) for one in found.others],
    )


def _permission(one: register.Permission) -> PermissionResponse:
    return PermissionResponse.model_validate({**asdict(one), "conditions": [_kept(k) for k in one.conditions]})


@operations(
    "GET", "/uncovered", "Devices that run without permission, and since when", roles=EVERYONE, query=UncoveredQuery,
    answer=UncoveredList, pages=True, cacheable=True,
)  # fmt: skip
def list_uncovered(call: Call[UncoveredQuery, None]) -> Answer:
    q, today = call.query, call.context.today()
    page = uncovered.uncovered_page(call.context, q.platform, q.site, q.device, q.cursor, q.limit)
    items = [
        UncoveredResponse(
            device=one.row.id,
            name=one.row.name,
            site=one.row.site,
            critical=one.row.critical,
            platform=one.row.platform,
            release=one.release,
            requirements=list(one.found.requirements),
            since=one.found.since,
            exact=one.found.exact,
            began=one.found.began,
            days=(today - one.found.since).days + 1,
            cause=one.found.cause,
            last=one.found.last,
            why=one.found.why,
            steps=list(one.steps),
        )
        for one in page.items
    ]
    return Answer(UncoveredList(items=items, next=page.next, total=page.total, sites=page.sites), next=page.next)
