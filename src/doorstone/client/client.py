"""`Client`: one method per thing the service does, typed results, page iterators, safe retries."""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterator, Mapping, Sequence
from types import TracebackType
from typing import Any, Literal, TypeVar

import httpx
from pydantic import BaseModel

from doorstone.client.errors import UnreachableError, problem_of
from doorstone.formats import wire, wire_after

T = TypeVar("T", bound=BaseModel)
Move = Literal["approve", "decline", "revoke", "close"]


class Client:
    """Talks to one service. `transport` swaps the socket for anything httpx takes, such as a WSGI app.

    Reads are tried up to three times when no answer comes; creating calls carry an Idempotency-Key and are
    tried again as well, so that a retry never makes a thing twice. Errors are of the tree in `doorstone.client`.
    """

    def __init__(
        self,
        address: str,
        token: str | None = None,
        *,
        timeout: float = 30.0,
        transport: httpx.BaseTransport | None = None,
        tries: int = 3,
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._http = httpx.Client(base_url=address, headers=headers, timeout=timeout, transport=transport)
        self._tries = tries

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    # ------------------------------------------------------------ the calls

    def _send(
        self,
        method: str,
        path: str,
        *,
        params: Mapping[str, Any] | None = None,
        body: BaseModel | None = None,
        creates: bool = False,
        version: int | None = None,
    ) -> httpx.Response:
        headers = {}
        if creates:
            headers["Idempotency-Key"] = str(uuid.uuid4())
        if version is not None:
            headers["If-Match"] = f'"v{version}"'
        content = body.model_dump_json() if body is not None else None
        if content is not None:
            headers["Content-Type"] = "application/json"
        safe = method == "GET" or creates
        for attempt in range(1, self._tries + 1):
            try:
                response = self._http.request(
                    method, f"/api/v1{path}", params=_given(params), content=content, headers=headers
                )
                break
            except httpx.TransportError as error:
                if not safe or attempt == self._tries:
                    raise UnreachableError(f"{self._http.base_url} does not answer: {error}") from error
                time.sleep(0.1 * 2**attempt)
        if response.status_code >= 400:
            raise problem_of(response)
        return response

    def _get(self, kind: type[T], path: str, **params: Any) -> T:
        return kind.model_validate_json(self._send("GET", path, params=params).content)

    def _create(self, kind: type[T], path: str, body: BaseModel) -> T:
        return kind.model_validate_json(self._send("POST", path, body=body, creates=True).content)

    # --------------------------------------------------------------- people

    def sign_in(self, name: str, password: str) -> wire.SessionShape:
        """Go on as a person, by session, as the console does. Raises `NotSignedInError`."""
        self._http.headers["X-Doorstone-Console"] = "1"
        body = wire.SignIn(name=name, password=password)
        return wire.SessionShape.model_validate_json(self._send("POST", "/session", body=body).content)

    def session(self) -> wire.SessionShape:
        """Who the token belongs to, the service's day and the risk statement."""
        return self._get(wire.SessionShape, "/session")

    def people(self) -> list[wire.PersonShape]:
        return self._get(wire.PersonList, "/people").items

    def add_person(self, asked: wire.PersonAsked) -> wire.PersonShape:
        return wire.PersonShape.model_validate_json(self._send("POST", "/people", body=asked).content)

    def tokens(self) -> list[wire.TokenShape]:
        return self._get(wire.TokenList, "/tokens").items

    def issue_token(self, asked: wire.TokenAsked) -> wire.TokenShape:
        """The answer holds the secret; it is not shown again."""
        return self._create(wire.TokenShape, "/tokens", asked)

    def revoke_token(self, token: str) -> wire.TokenShape:
        return wire.TokenShape.model_validate_json(self._send("DELETE", f"/tokens/{token}").content)

    # --------------------------------------------------------------- sheets

    def platforms(self) -> list[wire.PlatformShape]:
        return self._get(wire.PlatformList, "/platforms").items

    def platform(self, platform: str) -> wire.PlatformShape:
        return self._get(wire.PlatformShape, f"/platforms/{platform}")

    def sheet(self, platform: str) -> str:
        """The TOML of the platform's sheet, as loaded."""
        return self._send("GET", f"/platforms/{platform}/sheet").text

    def load_sheet(
        self, text: str, lists: Mapping[str, str] | None = None, name: str = "sheet.toml"
    ) -> wire.LoadReportShape:
        asked = wire.SheetAsked(name=name, text=text, lists=dict(lists or {}))
        return wire.LoadReportShape.model_validate_json(self._send("POST", "/sheets", body=asked).content)

    # -------------------------------------------------------------- devices

    def import_readings(self, text: str, form: Literal["ndjson", "csv"]) -> wire.ImportShape:
        """Import a whole file, all or nothing. `BadInputError.problem.troubles` names every bad line."""
        return self._create(wire.ImportShape, "/readings", wire.ReadingsAsked(form=form, text=text))

    def devices(self, platform: str, **where: Any) -> Iterator[wire.DeviceShape]:
        """Every device that fits, page by page. `where`: release, state, site, role, requirement, mark, words."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(wire.DevicePageShape, "/devices", platform=platform, cursor=cursor, **where)
            yield from page.items
            cursor = page.next

    def device(self, device: str, release: str = "") -> wire.DeviceDetail:
        return self._get(wire.DeviceDetail, f"/devices/{device}", release=release)

    def assessment(self, device: str, release: str = "") -> wire.AssessmentShape:
        return self._get(wire.AssessmentShape, f"/devices/{device}/assessment", release=release)

    def overrides(self, device: str, release: str = "", route: str = "in-place") -> wire.OverrideAnswerShape:
        return self._get(wire.OverrideAnswerShape, f"/devices/{device}/overrides", release=release, route=route)

    # -------------------------------------------------------------- sorting

    def sorting(self, platform: str, release: str) -> list[wire.SortingRowShape]:
        return self._get(wire.SortingTable, "/sorting", platform=platform, release=release).items

    def decide_sort(self, asked: wire.DecisionAsked) -> wire.DecisionShape:
        return self._create(wire.DecisionShape, "/decisions", asked)

    # ----------------------------------------------------------- exceptions

    def exceptions(self, state: str = "", device: str = "") -> list[wire.ExceptionShape]:
        return self._get(wire.ExceptionList, "/exceptions", state=state, device=device).items

    def exception(self, name: str) -> wire.ExceptionShape:
        return self._get(wire.ExceptionShape, f"/exceptions/{name}")

    def request_exception(self, asked: wire.ExceptionRequestAsked) -> wire.ExceptionShape:
        return self._create(wire.ExceptionShape, "/exceptions", asked)

    def edit_exception(self, name: str, version: int, terms: wire.ExceptionTermsAsked) -> wire.ExceptionShape:
        """Raises `StaleEditError` if the exception is no longer at `version`."""
        response = self._send("PATCH", f"/exceptions/{name}", body=terms, version=version)
        return wire.ExceptionShape.model_validate_json(response.content)

    def decide_exception(self, name: str, move: Move, version: int, note: str = "") -> wire.ExceptionShape:
        """Approve, decline, revoke or close what was seen at `version`."""
        asked = wire.MoveAsked(move=move, note=note)
        response = self._send("POST", f"/exceptions/{name}/decision", body=asked, version=version)
        return wire.ExceptionShape.model_validate_json(response.content)

    def withdraw_exception(self, name: str, version: int) -> wire.ExceptionShape:
        response = self._send("POST", f"/exceptions/{name}/withdrawal", version=version)
        return wire.ExceptionShape.model_validate_json(response.content)

    # ----------------------------------------------------------------- kits

    def kits(self, device: str = "") -> list[wire.KitShape]:
        return self._get(wire.KitList, "/kits", device=device).items

    def make_kit(self, asked: wire.KitAsked) -> wire.KitDetail:
        """`RefusedError.problem.troubles` says why there may be none."""
        return self._create(wire.KitDetail, "/kits", asked)

    def kit(self, name: str) -> wire.KitDetail:
        return self._get(wire.KitDetail, f"/kits/{name}")

    def download_kit(self, name: str) -> bytes:
        """The kit as a zip."""
        return self._send("GET", f"/kits/{name}/archive").content

    # ---------------------------------------------------- after the upgrade

    def attempts(self, device: str = "") -> list[wire_after.AttemptShape]:
        return self._get(wire_after.AttemptList, "/attempts", device=device).items

    def record_attempt(self, asked: wire_after.AttemptAsked) -> wire_after.AttemptShape:
        return self._create(wire_after.AttemptShape, "/attempts", asked)

    def observations(self, device: str = "") -> list[wire_after.ObservationShape]:
        return self._get(wire_after.ObservationList, "/observations", device=device).items

    def record_observation(self, asked: wire_after.ObservationAsked) -> wire_after.ObservationShape:
        return self._create(wire_after.ObservationShape, "/observations", asked)

    def standing(self, device: str) -> wire_after.StandingShape:
        return self._get(wire_after.StandingShape, f"/devices/{device}/standing")

    def forecast(self, device: str, release: str = "") -> wire_after.DeviceForecastShape:
        return self._get(wire_after.DeviceForecastShape, f"/devices/{device}/forecast", release=release)

    def fleet_forecast(self, platform: str, release: str = "") -> wire_after.FleetForecastShape:
        return self._get(wire_after.FleetForecastShape, "/forecast", platform=platform, release=release)

    def overview(self, platform: str, release: str = "") -> wire_after.OverviewShape:
        return self._get(wire_after.OverviewShape, "/overview", platform=platform, release=release)

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

    def check_ledger(self) -> wire_after.LedgerCheckShape:
        return self._get(wire_after.LedgerCheckShape, "/ledger/check")


def _given(params: Mapping[str, Any] | None) -> dict[str, str | int | Sequence[str]]:
    return {name: value for name, value in (params or {}).items() if value not in ("", None)}
