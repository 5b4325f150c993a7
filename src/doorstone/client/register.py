"""The part of the client that speaks of exceptions and of the ledger."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from doorstone.client.calls import Calls
from doorstone.formats import wire_after
from doorstone.formats import wire_exceptions as wire
from doorstone.formats.wire_exceptions import ExceptionShape, MoveName


class RegisterCalls(Calls):
    """Exceptions from the request to what is handed over, and the ledger."""

    def risk(self, platform: str = "", release: str = "") -> wire.RiskShape:
        """What is acknowledged word for word with a request: our statement, and the vendor's notice if it has one."""
        return self._get(wire.RiskShape, "/risk", platform=platform, release=release)

    def change_risk(self, text: str) -> wire.RiskShape:
        return self._made(wire.RiskShape, "PUT", "/risk", wire.RiskAsked(text=text))

    def exceptions(self, state: str = "", device: str = "", owner: str = "") -> list[ExceptionShape]:
        return self._get(wire.ExceptionList, "/exceptions", state=state, device=device, owner=owner).items

    def exception(self, name: str) -> ExceptionShape:
        return self._get(ExceptionShape, f"/exceptions/{name}")

    def check_request(self, asked: wire.ExceptionRequestAsked) -> wire.RequestCheckShape:
        """What a request would meet, device by device; nothing is written."""
        return self._made(wire.RequestCheckShape, "POST", "/exceptions/check", asked)

    def request_exception(self, asked: wire.ExceptionRequestAsked) -> ExceptionShape:
        """Raises `RefusedError` with a trouble per device; with `go_on` they are left out and listed in `refused`."""
        return self._create(ExceptionShape, "/exceptions", asked)

    def edit_exception(self, name: str, version: int, terms: wire.ExceptionTermsAsked) -> ExceptionShape:
        """Raises `StaleEditError` if the exception is no longer at `version`."""
        return self._made(ExceptionShape, "PATCH", f"/exceptions/{name}", terms, version)

    def decide_exception(
        self,
        name: str,
        move: MoveName,
        version: int,
        note: str = "",
        devices: Sequence[str] = (),
        requirements: Sequence[str] = (),
    ) -> ExceptionShape:
        """Approve (all, or a part), decline, revoke, close or confirm what was seen at `version`."""
        asked = wire.MoveAsked(move=move, note=note, devices=list(devices), requirements=list(requirements))
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/decision", asked, version)

    def withdraw_exception(self, name: str, version: int) -> ExceptionShape:
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/withdrawal", version=version)

    def comment(self, name: str, text: str, *, question: bool = False) -> ExceptionShape:
        """Comment; with `question`, ask the requester back."""
        asked = wire.CommentAsked(text=text, question=question)
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/comments", asked)

    def attest(self, name: str, condition: int, note: str = "") -> ExceptionShape:
        """Vouch that a condition is kept, today."""
        asked = wire.AttestAsked(condition=condition, note=note)
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/attestations", asked)

    def attach(self, name: str, asked: wire.AttachmentAsked) -> ExceptionShape:
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/attachments", asked)

    def transfer_exception(self, name: str, version: int, owner: str, note: str = "") -> ExceptionShape:
        asked = wire.OwnerAsked(owner=owner, note=note)
        return self._made(ExceptionShape, "PUT", f"/exceptions/{name}/owner", asked, version)

    def review_exception(self, name: str, version: int, asked: wire.ReviewAsked) -> ExceptionShape:
        return self._made(ExceptionShape, "POST", f"/exceptions/{name}/reviews", asked, version)

    def uncovered(self, *, platform: str = "", site: str = "", device: str = "") -> list[wire.UncoveredShape]:
        """Devices that run what no exception in force permits, the longest without permission first."""
        return self._get(wire.UncoveredList, "/uncovered", platform=platform, site=site, device=device).items

    def consequences(self, name: str) -> list[wire.ConsequenceShape]:
        """What must be done for each device once the exception does not hold."""
        return self._get(wire.ConsequenceList, f"/exceptions/{name}/consequences").items

    def account(self, device: str, release: str = "") -> wire.AccountShape:
        """Who allowed what on a device, on what evidence, until when, and whether it still holds."""
        return self._get(wire.AccountShape, f"/devices/{device}/account", release=release)

    def export_exceptions(self, form: str) -> bytes:
        """The register as `csv`, `json` or `oscal`."""
        return self._send("GET", "/exceptions/export", params={"form": form}).content

    def exception_page(self, name: str) -> bytes:
        """One exception as an HTML page that stands alone."""
        return self._send("GET", f"/exceptions/{name}/page").content

    # --------------------------------------------------------------- ledger

    def ledger(self, kind: str = "", obj: str = "", pages: int | None = None) -> Iterator[wire_after.EntryShape]:
        """Entries, newest first, page by page."""
        cursor: str | None = None
        seen = 0
        while pages is None or seen < pages:
            params = {"kind": kind, "object": obj, "cursor": cursor}
            page = wire_after.EntryPage.model_validate_json(self._send("GET", "/ledger", params=params).content)
            yield from page.items
            cursor, seen = page.next, seen + 1
            if cursor is None:
                return

    def story(self, kind: str, obj: str) -> list[wire.StoryLineShape]:
        """What happened to one object, oldest first, in sentences."""
        response = self._send("GET", "/ledger/story", params={"kind": kind, "object": obj})
        return wire.StoryShape.model_validate_json(response.content).items

    def export_ledger(self) -> Iterator[bytes]:
        """The whole ledger as NDJSON, in pieces, oldest entry first."""
        with self._http.stream("GET", "/api/v1/ledger/export") as response:
            if response.status_code >= 400:
                response.read()
                raise self._problem(response)
            yield from response.iter_bytes()

    def check_ledger(self, kept: str = "") -> wire_after.LedgerCheckShape:
        """Whether the chain holds; `kept` is a head that was noted elsewhere, as number:hash."""
        return self._get(wire_after.LedgerCheckShape, "/ledger/check", kept=kept)
