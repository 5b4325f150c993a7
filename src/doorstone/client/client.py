"""`Client`: one method per thing the service does, typed results, page iterators, safe retries."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO
from urllib.parse import quote

from httpx_sse import connect_sse

from doorstone.api.attempts import AttemptList, AttemptRequest, AttemptResponse
from doorstone.api.devices import (
    DeviceChangedList,
    DeviceChangedResponse,
    DeviceChangeRequest,
    DeviceDetail,
    DevicePageResponse,
    DeviceResponse,
    DevicesChangeRequest,
    DisputeList,
    DisputeResponse,
    LifeChangedList,
    LifeChangedResponse,
    LifeHistory,
    LifeRequest,
    LifeResponse,
    OutOfServiceList,
    OutOfServiceResponse,
    ReadingPageResponse,
    ReadingResponse,
    SelectionList,
    SelectionRequest,
    SelectionResponse,
    SettlementList,
    SettlementRequest,
    SettlementResponse,
    UnplacedList,
    UnplacedResponse,
)
from doorstone.api.fixes import DeviceFixesResponse, FixDoneRequest, FixDoneResponse, FixRoundResponse
from doorstone.api.fleet import ComparisonResponse, FleetResponse, OverviewResponse, WhatIfRequest, WhatIfResponse
from doorstone.api.forecast import DeviceForecastResponse, FleetForecastResponse
from doorstone.api.kits import OverrideAnswerResponse
from doorstone.api.operations import CheckUpResponse
from doorstone.api.platforms import (
    ChangeList,
    ChangeResponse,
    ExplanationResponse,
    ImpactResponse,
    ListNameList,
    LoadReportResponse,
    PlatformList,
    PlatformResponse,
    RevisionList,
    RevisionResponse,
    SheetRequest,
    TaskList,
    TaskRequest,
    TaskResponse,
    VendorListRequest,
    VendorListResponse,
)
from doorstone.api.readings import (
    FailureMessageList,
    FailureMessageResponse,
    FormName,
    ImportList,
    ImportProblemPage,
    ImportProblemResponse,
    ImportRequest,
    ImportResponse,
    NewRequirementRequest,
    ReadingsRequest,
    RecordFileRequest,
    RecordFileResponse,
    RecordKind,
    SourceList,
    SourceResponse,
    TextMatchRequest,
)
from doorstone.api.sorting import (
    AssessmentResponse,
    DecisionList,
    DecisionRequest,
    DecisionResponse,
    SortingRowResponse,
    SortingTable,
    WithdrawalRequest,
)
from doorstone.api.updates import ObservationList, ObservationRequest, ObservationResponse, StandingResponse
from doorstone.client.errors import problem_of
from doorstone.client.exceptions import ExceptionCalls
from doorstone.client.forecast import ForecastCalls
from doorstone.client.kits import KitCalls
from doorstone.client.people import PeopleCalls


class Client(PeopleCalls, ExceptionCalls, KitCalls, ForecastCalls):
    """Talks to one service. `transport` swaps the socket for anything httpx takes, such as a WSGI app.

    Reads are tried up to three times when no answer comes; creating calls carry an Idempotency-Key and are
    tried again as well, so that a retry never makes a thing twice. Errors are of the tree in `doorstone.client`.
    """

    # --------------------------------------------------------------- sheets

    def platforms(self) -> list[PlatformResponse]:
        return self._get(PlatformList, "/platforms").items

    def platform(self, platform: str) -> PlatformResponse:
        return self._get(PlatformResponse, f"/platforms/{platform}")

    def sheet(self, platform: str) -> str:
        """The TOML of the platform's sheet, as loaded."""
        return self._send("GET", f"/platforms/{platform}/sheet").text

    def sheet_files(self, platform: str) -> dict[str, bytes]:
        """The platform's sheet and the files that stand beside it, by name, as they were loaded."""
        with zipfile.ZipFile(io.BytesIO(self._send("GET", f"/platforms/{platform}/files").content)) as bundle:
            return {name.rsplit("/", 1)[-1]: bundle.read(name) for name in bundle.namelist()}

    def load_sheet(
        self, text: str, lists: Mapping[str, str] | None = None, name: str = "sheet.toml", seen: int | None = None
    ) -> LoadReportResponse:
        """With `seen`, the revision whose impact was looked at: refused if another has been loaded since."""
        request = SheetRequest(name=name, text=text, lists=dict(lists or {}), seen=seen)
        return LoadReportResponse.model_validate_json(self._send("POST", "/sheets", body=request).content)

    def sheet_impact(
        self, text: str, lists: Mapping[str, str] | None = None, name: str = "sheet.toml"
    ) -> ImpactResponse:
        """What loading the sheet would change; nothing is loaded."""
        request = SheetRequest(name=name, text=text, lists=dict(lists or {}))
        return ImpactResponse.model_validate_json(self._send("POST", "/sheets/impact", body=request).content)

    def revisions(self, platform: str) -> list[RevisionResponse]:
        """Every revision of the platform's sheet, newest first, with what it changed."""
        return self._get(RevisionList, f"/platforms/{platform}/revisions").items

    def revision(self, platform: str, number: int) -> str:
        """The TOML of one revision."""
        return self._send("GET", f"/platforms/{platform}/revisions/{number}").text

    def compare_revisions(self, platform: str, one: int, other: int) -> list[ChangeResponse]:
        """Every difference between two revisions of a sheet."""
        return self._get(ChangeList, f"/platforms/{platform}/comparison", one=one, other=other).items

    def lists(self, platform: str) -> list[str]:
        """The lists of names beside the platform's sheet."""
        return self._get(ListNameList, f"/platforms/{platform}/lists").items

    def match_list(self, platform: str, name: str, request: VendorListRequest) -> VendorListResponse:
        """How a vendor's list matches the one beside the sheet, and what loading it would change."""
        return self._made(VendorListResponse, "POST", f"/platforms/{platform}/lists/{name}/match", request)

    def load_list(self, platform: str, name: str, request: VendorListRequest) -> LoadReportResponse:
        """Load a vendor's list as the sheet's next revision. Raises `RefusedError` while names are undecided."""
        return self._made(LoadReportResponse, "PUT", f"/platforms/{platform}/lists/{name}", request)

    def tasks(self, state: str = "", platform: str = "") -> list[TaskResponse]:
        """What changed sheets leave to do."""
        return self._get(TaskList, "/tasks", state=state, platform=platform).items

    def change_task(self, name: str, request: TaskRequest) -> TaskResponse:
        """Settle a task, open it again, or give it to somebody else."""
        return self._made(TaskResponse, "PATCH", f"/tasks/{name}", request)

    def requirement(self, platform: str, requirement: str) -> ExplanationResponse:
        """One requirement in words, release by release."""
        return self._get(ExplanationResponse, f"/platforms/{platform}/requirements/{requirement}")

    # -------------------------------------------------------------- devices

    def import_readings(self, text: str, form: FormName, **how: Any) -> ImportResponse:
        """Import a text at once. `BadInputError.problem.errors` names every bad line. `how`: dry, skip, mapping."""
        return self._create(ImportResponse, "/readings", ReadingsRequest(form=form, text=text, **how))

    def begin_import(self, request: ImportRequest) -> ImportResponse:
        """Open an import; `send_import_file` brings its file."""
        return self._create(ImportResponse, "/imports", request)

    def send_import_file(self, name: str, file: BinaryIO) -> ImportResponse:
        """Send the file as it is read, in pieces; the import then runs by itself. Watch it with `watch_import`."""
        pieces = iter(lambda: file.read(1 << 16), b"")
        return ImportResponse.model_validate_json(self._send("PUT", f"/imports/{name}/file", pieces=pieces).content)

    def watch_import(self, name: str) -> Iterator[ImportResponse]:
        """Yield the import whenever it has progressed, and once more when it has ended."""
        while True:
            with connect_sse(self._http, "GET", f"/api/v1/imports/{name}/events") as source:
                if source.response.status_code >= 400:
                    source.response.read()
                    raise problem_of(source.response)
                for event in source.iter_sse():
                    found = ImportResponse.model_validate_json(event.data)
                    yield found
                    if found.ended:
                        return

    def imports(self) -> list[ImportResponse]:
        """The last imports, newest first."""
        return self._get(ImportList, "/imports").items

    def get_import(self, name: str) -> ImportResponse:
        return self._get(ImportResponse, f"/imports/{name}")

    def cancel_import(self, name: str) -> ImportResponse:
        """Raises `RefusedError` once it takes over or has ended."""
        return ImportResponse.model_validate_json(self._send("DELETE", f"/imports/{name}").content)

    def import_problems(self, name: str) -> Iterator[ImportProblemResponse]:
        """Every rejected line, in order."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(ImportProblemPage, f"/imports/{name}/problems", cursor=cursor)
            yield from page.items
            cursor = page.next

    def sources(self) -> list[SourceResponse]:
        """Who reports, the most trusted first."""
        return self._get(SourceList, "/sources").items

    def devices(self, platform: str, **where: Any) -> Iterator[DeviceResponse]:
        """Every device that fits, page by page. `where`: release, state, site, role, requirement, mark, words."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(DevicePageResponse, "/devices", platform=platform, cursor=cursor, **where)
            yield from page.items
            cursor = page.next

    def device(self, device: str, release: str = "") -> DeviceDetail:
        return self._get(DeviceDetail, f"/devices/{device}", release=release)

    def device_readings(self, device: str) -> Iterator[ReadingResponse]:
        """Every reading of a device that is kept, newest first, page by page."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(ReadingPageResponse, f"/devices/{device}/readings", cursor=cursor)
            yield from page.items
            cursor = page.next

    def change_device(self, device: str, request: DeviceChangeRequest) -> DeviceDetail:
        """Change what rules rest on: site, role, criticality. Approvals that rest on it need a second look."""
        return self._made(DeviceDetail, "PATCH", f"/devices/{device}", request)

    def assessment(self, device: str, release: str = "") -> AssessmentResponse:
        return self._get(AssessmentResponse, f"/devices/{device}/assessment", release=release)

    def overrides(self, device: str, release: str = "", route: str = "in-place") -> OverrideAnswerResponse:
        return self._get(OverrideAnswerResponse, f"/devices/{device}/overrides", release=release, route=route)

    def record_file(self, kind: RecordKind, text: str, form: FormName, mapping: str = "") -> RecordFileResponse:
        """Record the rows of a file, all or none: attempts, observations, fixes, lives, settlements or follow-ups.

        Raises `BadInputError`; its problem names every row that is wrong.
        """
        request = RecordFileRequest(form=form, text=text, mapping=mapping)
        return self._create(RecordFileResponse, f"/records/{kind}", request)

    # -------------------------------------------------------------- sorting

    def sorting(self, platform: str, release: str) -> list[SortingRowResponse]:
        return self._get(SortingTable, "/sorting", platform=platform, release=release).items

    def decide_sort(self, request: DecisionRequest) -> DecisionResponse:
        return self._create(DecisionResponse, "/decisions", request)

    def decisions(self, platform: str, requirement: str = "") -> list[DecisionResponse]:
        """Every decision, those withdrawn included, newest first."""
        return self._get(DecisionList, "/decisions", platform=platform, requirement=requirement).items

    def withdraw_decision(self, name: str, note: str) -> DecisionResponse:
        request = WithdrawalRequest(note=note)
        response = self._send("POST", f"/decisions/{name}/withdrawal", body=request)
        return DecisionResponse.model_validate_json(response.content)

    def failure_messages(self, platform: str, waiting: bool = False) -> list[FailureMessageResponse]:
        """Failure messages; with `waiting` only those that match no requirement."""
        return self._get(FailureMessageList, "/failure-messages", platform=platform, waiting=waiting).items

    def match_failure_message(self, platform: str, text: str, requirement: str) -> FailureMessageResponse:
        request = TextMatchRequest(platform=platform, text=text, requirement=requirement)
        response = self._send("POST", "/failure-messages/match", body=request)
        return FailureMessageResponse.model_validate_json(response.content)

    def new_requirement(self, request: NewRequirementRequest) -> FailureMessageResponse:
        """Make a failure message into a requirement of its own, unsorted."""
        response = self._send("POST", "/failure-messages/requirement", body=request)
        return FailureMessageResponse.model_validate_json(response.content)

    def unplaced(self) -> list[UnplacedResponse]:
        """The devices that no loaded sheet places, each with what to do."""
        return self._get(UnplacedList, "/unplaced").items

    def lives(self, life: str = "", site: str = "") -> list[OutOfServiceResponse]:
        """The devices that are not in service: set aside, retired or replaced."""
        return self._get(OutOfServiceList, "/lives", life=life, site=site).items

    def device_lives(self, device: str) -> list[LifeResponse]:
        """Every change of a device's life, oldest first."""
        return self._get(LifeHistory, f"/devices/{device}/lives").items

    def change_devices(self, request: DevicesChangeRequest) -> list[DeviceChangedResponse]:
        """Change the site, role or criticality of many devices, all or none; those that are so already stay out."""
        return self._made(DeviceChangedList, "POST", "/devices/changes", request).items

    def change_lives(self, request: LifeRequest) -> list[LifeChangedResponse]:
        """Set devices aside, retire, replace or bring them back: all or none. What is gone has no exception."""
        return self._made(LifeChangedList, "POST", "/lives", request).items

    # ------------------------------------------------------------- disputes

    def disputes(self, platform: str, release: str = "", device: str = "") -> list[DisputeResponse]:
        params = {"platform": platform, "release": release, "device": device}
        return self._get(DisputeList, "/disputes", **params).items

    def settle_dispute(self, request: SettlementRequest) -> SettlementResponse:
        return self._create(SettlementResponse, "/settlements", request)

    def settlements(self, device: str) -> list[SettlementResponse]:
        """How disputes of a device were settled, newest first."""
        return self._get(SettlementList, "/settlements", device=device).items

    # ---------------------------------------------------------------- fleet

    def fleet(self, platform: str, **where: Any) -> FleetResponse:
        """Counts. `where`: release, by, selection, state, site, role, model, requirement, mark, words."""
        return self._get(FleetResponse, "/fleet", platform=platform, **where)

    def compare_fleet(self, platform: str, **sides: Any) -> ComparisonResponse:
        """Two sides: release, route, other_release, other_route; and which devices, as in `fleet`."""
        return self._get(ComparisonResponse, "/fleet/comparison", platform=platform, **sides)

    def what_if(self, request: WhatIfRequest) -> WhatIfResponse:
        """Counts before and after; nothing is written."""
        response = self._send("POST", "/fleet/what-if", body=request)
        return WhatIfResponse.model_validate_json(response.content)

    def fix_round(self, platform: str, **where: Any) -> FixRoundResponse:
        return self._get(FixRoundResponse, "/fixes", platform=platform, **where)

    def fix_round_csv(self, platform: str, **where: Any) -> str:
        return self._send("GET", "/fixes.csv", params={"platform": platform, **where}).text

    def device_fixes(self, device: str, release: str = "") -> DeviceFixesResponse:
        return self._get(DeviceFixesResponse, f"/devices/{device}/fixes", release=release)

    def record_fix(self, device: str, request: FixDoneRequest) -> FixDoneResponse:
        """Record a fix as done, or as tried and failed."""
        return self._create(FixDoneResponse, f"/devices/{device}/fixes", request)

    def selections(self) -> list[SelectionResponse]:
        return self._get(SelectionList, "/selections").items

    def save_selection(self, name: str, request: SelectionRequest) -> SelectionResponse:
        response = self._send("PUT", f"/selections/{quote(name, safe='')}", body=request)
        return SelectionResponse.model_validate_json(response.content)

    def delete_selection(self, name: str) -> None:
        self._send("DELETE", f"/selections/{quote(name, safe='')}")

    # ---------------------------------------------------- after the upgrade

    def attempts(self, device: str = "") -> list[AttemptResponse]:
        return self._get(AttemptList, "/attempts", device=device).items

    def record_attempt(self, request: AttemptRequest) -> AttemptResponse:
        return self._create(AttemptResponse, "/attempts", request)

    def observations(self, device: str = "") -> list[ObservationResponse]:
        return self._get(ObservationList, "/observations", device=device).items

    def record_observation(self, request: ObservationRequest) -> ObservationResponse:
        return self._create(ObservationResponse, "/observations", request)

    def standing(self, device: str) -> StandingResponse:
        return self._get(StandingResponse, f"/devices/{device}/standing")

    def forecast(self, device: str, release: str = "") -> DeviceForecastResponse:
        return self._get(DeviceForecastResponse, f"/devices/{device}/forecast", release=release)

    def fleet_forecast(self, platform: str, release: str = "") -> FleetForecastResponse:
        return self._get(FleetForecastResponse, "/forecast", platform=platform, release=release)

    def overview(self, platform: str, release: str = "") -> OverviewResponse:
        return self._get(OverviewResponse, "/overview", platform=platform, release=release)

    # ------------------------------------------------------------- operations

    def doctor(self, *, deep: bool = False) -> CheckUpResponse:
        """Check-up of the service; `deep` reads all records and the whole ledger as well."""
        return self._get(CheckUpResponse, "/doctor", deep=str(deep).lower())
