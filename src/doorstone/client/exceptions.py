"""The client's calls on exceptions and the ledger."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from typing import Any, Literal

from doorstone.api.exceptions import (
    AccountResponse,
    AttachmentRequest,
    AttestRequest,
    CommentRequest,
    ConsequenceList,
    ConsequenceResponse,
    ExceptionBatchResponse,
    ExceptionList,
    ExceptionRequest,
    ExceptionResponse,
    ExceptionTermsRequest,
    ExceptionVersion,
    FolderChangesRequest,
    FolderDifferenceList,
    FolderDifferenceResponse,
    FolderDoneList,
    FolderDoneResponse,
    FolderRequest,
    ManyMovesRequest,
    ManyOwnersRequest,
    MoveName,
    MoveRequest,
    OwnerRequest,
    RenewalsRequest,
    RequestCheckResponse,
    ReviewRequest,
    RiskRequest,
    RiskResponse,
    UncoveredList,
    UncoveredResponse,
)
from doorstone.api.ledger import EntryPage, EntryResponse, LedgerCheckResponse, StoryLineResponse, StoryResponse
from doorstone.client.transport import Transport


class ExceptionCalls(Transport):
    """Exceptions from the request to what is handed over, and the ledger."""

    def risk(self, platform: str = "", release: str = "") -> RiskResponse:
        """What is acknowledged word for word with a request: our statement, and the vendor's notice if it has one."""
        return self._get(RiskResponse, "/risk", platform=platform, release=release)

    def change_risk(self, text: str) -> RiskResponse:
        return self._made(RiskResponse, "PUT", "/risk", RiskRequest(text=text))

    def exceptions(
        self, state: str = "", device: str = "", owner: str = "", order: Literal["newest", "risk"] = "newest"
    ) -> list[ExceptionResponse]:
        """The newest first, or those of most residual risk."""
        return self._get(ExceptionList, "/exceptions", state=state, device=device, owner=owner, order=order).items

    def exception(self, name: str) -> ExceptionResponse:
        return self._get(ExceptionResponse, f"/exceptions/{name}")

    def check_request(self, request: ExceptionRequest) -> RequestCheckResponse:
        """What a request would meet, device by device; nothing is written."""
        return self._made(RequestCheckResponse, "POST", "/exceptions/check", request)

    def request_exception(self, request: ExceptionRequest) -> ExceptionResponse:
        """Raises `RefusedError` with an error per device; with `go_on` they are left out and listed in `refused`."""
        return self._create(ExceptionResponse, "/exceptions", request)

    def request_each(self, request: ExceptionRequest) -> ExceptionBatchResponse:
        """Request what each device needs: one exception for each distinct set of needs; all of them or none.

        With `dry_run` set, what would be requested. Raises `RefusedError` if there is nothing to request.
        """
        return self._create(ExceptionBatchResponse, "/exceptions/each", request)

    def decide_exceptions(self, seen: Mapping[str, int], move: MoveName, note: str = "") -> list[ExceptionResponse]:
        """Make the same move on several exceptions, by id as seen at their versions; all of them or none."""
        wanted = [ExceptionVersion(exception=name, version=version) for name, version in seen.items()]
        request = ManyMovesRequest(exceptions=wanted, move=move, note=note)
        return self._made(ExceptionList, "POST", "/exceptions/decisions", request).items

    def renew_exceptions(self, request: RenewalsRequest) -> ExceptionBatchResponse:
        """Request a successor of several exceptions, each with its terms; all of them or none."""
        return self._create(ExceptionBatchResponse, "/exceptions/renewals", request)

    def transfer_exceptions(self, seen: Mapping[str, int], owner: str, note: str = "") -> list[ExceptionResponse]:
        """Transfer several exceptions, as seen at their versions, to another owner; all of them or none."""
        wanted = [ExceptionVersion(exception=name, version=version) for name, version in seen.items()]
        request = ManyOwnersRequest(exceptions=wanted, owner=owner, note=note)
        return self._made(ExceptionList, "POST", "/exceptions/owners", request).items

    def edit_exception(self, name: str, version: int, terms: ExceptionTermsRequest) -> ExceptionResponse:
        """Raises `StaleEditError` if the exception is no longer at `version`."""
        return self._made(ExceptionResponse, "PATCH", f"/exceptions/{name}", terms, version)

    def decide_exception(
        self,
        name: str,
        move: MoveName,
        version: int,
        note: str = "",
        devices: Sequence[str] = (),
        requirements: Sequence[str] = (),
    ) -> ExceptionResponse:
        """Approve (all, or a part), decline, revoke, close or confirm what was seen at `version`."""
        request = MoveRequest(move=move, note=note, devices=list(devices), requirements=list(requirements))
        return self._made(ExceptionResponse, "POST", f"/exceptions/{name}/decision", request, version)

    def withdraw_exception(self, name: str, version: int) -> ExceptionResponse:
        return self._made(ExceptionResponse, "POST", f"/exceptions/{name}/withdrawal", version=version)

    def comment(self, name: str, text: str, *, question: bool = False) -> ExceptionResponse:
        """Comment; with `question`, ask the requester back."""
        request = CommentRequest(text=text, question=question)
        return self._create(ExceptionResponse, f"/exceptions/{name}/comments", request)

    def attest(self, name: str, condition: int, note: str = "") -> ExceptionResponse:
        """Attest that a condition is met today."""
        request = AttestRequest(condition=condition, note=note)
        return self._create(ExceptionResponse, f"/exceptions/{name}/attestations", request)

    def attach(self, name: str, request: AttachmentRequest) -> ExceptionResponse:
        return self._create(ExceptionResponse, f"/exceptions/{name}/attachments", request)

    def transfer_exception(self, name: str, version: int, owner: str, note: str = "") -> ExceptionResponse:
        request = OwnerRequest(owner=owner, note=note)
        return self._made(ExceptionResponse, "PUT", f"/exceptions/{name}/owner", request, version)

    def review_exception(self, name: str, version: int, request: ReviewRequest) -> ExceptionResponse:
        return self._made(ExceptionResponse, "POST", f"/exceptions/{name}/reviews", request, version)

    def uncovered(self, *, platform: str = "", site: str = "", device: str = "") -> list[UncoveredResponse]:
        """Devices that run what no exception in force permits, the longest without permission first."""
        found: list[UncoveredResponse] = []
        cursor: str | None = ""
        while cursor is not None:
            request = {"platform": platform, "site": site, "device": device, "cursor": cursor, "limit": 1000}
            page = self._get(UncoveredList, "/uncovered", **request)
            found += page.items
            cursor = page.next
        return found

    def consequences(self, name: str) -> list[ConsequenceResponse]:
        """What must be done for each device once the exception does not hold."""
        return self._get(ConsequenceList, f"/exceptions/{name}/consequences").items

    def account(self, device: str, release: str = "") -> AccountResponse:
        """Who allowed what on a device, on what evidence, until when, and whether it still holds."""
        return self._get(AccountResponse, f"/devices/{device}/account", release=release)

    def export_exceptions(self, form: str) -> bytes:
        """The register as `csv`, `json` or `oscal`."""
        return self._send("GET", "/exceptions/export", params={"form": form}).content

    def exception_folder(self, *, every: bool = False) -> bytes:
        """The register as a zip of TOML files, one for each open exception; with `every` those that have ended too."""
        return self._send("GET", "/exceptions/folder", params={"every": every}).content

    def compare_folder(self, files: Mapping[str, str]) -> list[FolderDifferenceResponse]:
        """How a reviewed folder, file name -> text, differs from the register."""
        request = FolderRequest(files=dict(files))
        return self._made(FolderDifferenceList, "POST", "/exceptions/folder/comparison", request).items

    def request_folder(self, request: FolderChangesRequest) -> list[FolderDoneResponse]:
        """Request the differences between a reviewed folder and the register; all of them or none."""
        return self._made(FolderDoneList, "POST", "/exceptions/folder", request).items

    def exception_page(self, name: str) -> bytes:
        """One exception as an HTML page that stands alone."""
        return self._send("GET", f"/exceptions/{name}/page").content

    # --------------------------------------------------------------- ledger

    def ledger(self, kind: str = "", obj: str = "", pages: int | None = None) -> Iterator[EntryResponse]:
        """Entries, newest first, page by page."""
        cursor: str | None = None
        seen = 0
        while pages is None or seen < pages:
            params = {"kind": kind, "object": obj, "cursor": cursor}
            page = EntryPage.model_validate_json(self._send("GET", "/ledger", params=params).content)
            yield from page.items
            cursor, seen = page.next, seen + 1
            if cursor is None:
                return

    def story(self, kind: str, obj: str) -> list[StoryLineResponse]:
        """What happened to one object, oldest first, in sentences."""
        response = self._send("GET", "/ledger/story", params={"kind": kind, "object": obj})
        return StoryResponse.model_validate_json(response.content).items

    def export_ledger(self) -> Iterator[bytes]:
        """The whole ledger as NDJSON, in pieces, oldest entry first."""
        with self._http.stream("GET", "/api/v1/ledger/export") as response:
            if response.status_code >= 400:
                response.read()
                raise self._problem(response)
            yield from response.iter_bytes()

    def evidence(
        self,
        *,
        devices: Sequence[str] = (),
        selection: str = "",
        sites: Sequence[str] = (),
        exception: str = "",
        start: date | None = None,
        end: date | None = None,
        everything: bool = False,
    ) -> bytes:
        """An evidence pack, a zip: everything about a scope and a period, signed. The parts of a scope add up."""
        params: dict[str, Any] = {
            "devices": ",".join(devices), "selection": selection, "site": list(sites), "exception": exception,
            "start": start.isoformat() if start else "", "end": end.isoformat() if end else "",
            "everything": "true" if everything else "",
        }  # fmt: skip
        return self._send("GET", "/evidence", params=params).content

    def check_ledger(self, kept: str = "") -> LedgerCheckResponse:
        """Whether the chain holds; `kept` is a head that was noted elsewhere, as number:hash."""
        return self._get(LedgerCheckResponse, "/ledger/check", kept=kept)
