"""`Client`: one method per thing the service does, typed results, page iterators, safe retries."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO
from urllib.parse import quote

from doorstone.client.errors import problem_of
from doorstone.client.kits import KitCalls
from doorstone.client.outlook import OutlookCalls
from doorstone.client.people import PeopleCalls
from doorstone.client.register import RegisterCalls
from doorstone.formats import wire, wire_after, wire_fleet


class Client(PeopleCalls, RegisterCalls, KitCalls, OutlookCalls):
    """Talks to one service. `transport` swaps the socket for anything httpx takes, such as a WSGI app.

    Reads are tried up to three times when no answer comes; creating calls carry an Idempotency-Key and are
    tried again as well, so that a retry never makes a thing twice. Errors are of the tree in `doorstone.client`.
    """

    # --------------------------------------------------------------- sheets

    def platforms(self) -> list[wire.PlatformShape]:
        return self._get(wire.PlatformList, "/platforms").items

    def platform(self, platform: str) -> wire.PlatformShape:
        return self._get(wire.PlatformShape, f"/platforms/{platform}")

    def sheet(self, platform: str) -> str:
        """The TOML of the platform's sheet, as loaded."""
        return self._send("GET", f"/platforms/{platform}/sheet").text

    def load_sheet(
        self, text: str, lists: Mapping[str, str] | None = None, name: str = "sheet.toml", seen: int | None = None
    ) -> wire.LoadReportShape:
        """With `seen`, the revision whose impact was looked at: refused if another has been loaded since."""
        asked = wire.SheetAsked(name=name, text=text, lists=dict(lists or {}), seen=seen)
        return wire.LoadReportShape.model_validate_json(self._send("POST", "/sheets", body=asked).content)

    def sheet_impact(
        self, text: str, lists: Mapping[str, str] | None = None, name: str = "sheet.toml"
    ) -> wire_fleet.ImpactShape:
        """What loading the sheet would change; nothing is loaded."""
        asked = wire.SheetAsked(name=name, text=text, lists=dict(lists or {}))
        return wire_fleet.ImpactShape.model_validate_json(self._send("POST", "/sheets/impact", body=asked).content)

    def revisions(self, platform: str) -> list[wire_fleet.RevisionShape]:
        """Every revision of the platform's sheet, newest first, with what it changed."""
        return self._get(wire_fleet.RevisionList, f"/platforms/{platform}/revisions").items

    def revision(self, platform: str, number: int) -> str:
        """The TOML of one revision."""
        return self._send("GET", f"/platforms/{platform}/revisions/{number}").text

    def requirement(self, platform: str, requirement: str) -> wire_fleet.ExplanationShape:
        """One requirement in words, release by release."""
        return self._get(wire_fleet.ExplanationShape, f"/platforms/{platform}/requirements/{requirement}")

    # -------------------------------------------------------------- devices

    def import_readings(self, text: str, form: wire.FormName, **how: Any) -> wire.ImportShape:
        """Import a text at once. `BadInputError.problem.troubles` names every bad line. `how`: dry, skip, mapping."""
        return self._create(wire.ImportShape, "/readings", wire.ReadingsAsked(form=form, text=text, **how))

    def begin_import(self, asked: wire.ImportAsked) -> wire.ImportShape:
        """Open an import; `send_import_file` brings its file."""
        return self._create(wire.ImportShape, "/imports", asked)

    def send_import_file(self, name: str, file: BinaryIO) -> wire.ImportShape:
        """Send the file as it is read, in pieces; the import then runs by itself. Watch it with `watch_import`."""
        pieces = iter(lambda: file.read(1 << 16), b"")
        return wire.ImportShape.model_validate_json(self._send("PUT", f"/imports/{name}/file", pieces=pieces).content)

    def watch_import(self, name: str) -> Iterator[wire.ImportShape]:
        """The import each time that it has come further, the last time when it has ended."""
        while True:
            with self._http.stream("GET", f"/api/v1/imports/{name}/events") as response:
                if response.status_code >= 400:
                    response.read()
                    raise problem_of(response)
                for line in response.iter_lines():
                    if line.startswith("data: "):
                        found = wire.ImportShape.model_validate_json(line.removeprefix("data: "))
                        yield found
                        if found.ended:
                            return

    def imports(self) -> list[wire.ImportShape]:
        """The last imports, newest first."""
        return self._get(wire.ImportList, "/imports").items

    def get_import(self, name: str) -> wire.ImportShape:
        return self._get(wire.ImportShape, f"/imports/{name}")

    def cancel_import(self, name: str) -> wire.ImportShape:
        """Raises `RefusedError` once it takes over or has ended."""
        return wire.ImportShape.model_validate_json(self._send("DELETE", f"/imports/{name}").content)

    def import_problems(self, name: str) -> Iterator[wire.ImportProblemShape]:
        """Every rejected line, in order."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(wire.ImportProblemPage, f"/imports/{name}/problems", cursor=cursor)
            yield from page.items
            cursor = page.next

    def sources(self) -> list[wire.SourceShape]:
        """Who reports, the most trusted first."""
        return self._get(wire.SourceList, "/sources").items

    def devices(self, platform: str, **where: Any) -> Iterator[wire.DeviceShape]:
        """Every device that fits, page by page. `where`: release, state, site, role, requirement, mark, words."""
        cursor: str | None = ""
        while cursor is not None:
            page = self._get(wire.DevicePageShape, "/devices", platform=platform, cursor=cursor, **where)
            yield from page.items
            cursor = page.next

    def device(self, device: str, release: str = "") -> wire.DeviceDetail:
        return self._get(wire.DeviceDetail, f"/devices/{device}", release=release)

    def change_device(self, device: str, asked: wire.DeviceChangeAsked) -> wire.DeviceDetail:
        """Change what rules rest on: site, role, criticality. Approvals that rest on it need a second look."""
        return self._made(wire.DeviceDetail, "PATCH", f"/devices/{device}", asked)

    def assessment(self, device: str, release: str = "") -> wire.AssessmentShape:
        return self._get(wire.AssessmentShape, f"/devices/{device}/assessment", release=release)

    def overrides(self, device: str, release: str = "", route: str = "in-place") -> wire.OverrideAnswerShape:
        return self._get(wire.OverrideAnswerShape, f"/devices/{device}/overrides", release=release, route=route)

    # -------------------------------------------------------------- sorting

    def sorting(self, platform: str, release: str) -> list[wire.SortingRowShape]:
        return self._get(wire.SortingTable, "/sorting", platform=platform, release=release).items

    def decide_sort(self, asked: wire.DecisionAsked) -> wire.DecisionShape:
        return self._create(wire.DecisionShape, "/decisions", asked)

    def decisions(self, platform: str, requirement: str = "") -> list[wire.DecisionShape]:
        """Every decision, those withdrawn included, newest first."""
        return self._get(wire.DecisionList, "/decisions", platform=platform, requirement=requirement).items

    def withdraw_decision(self, name: str, note: str) -> wire.DecisionShape:
        asked = wire.WithdrawalAsked(note=note)
        response = self._send("POST", f"/decisions/{name}/withdrawal", body=asked)
        return wire.DecisionShape.model_validate_json(response.content)

    def failure_texts(self, platform: str, waiting: bool = False) -> list[wire_fleet.ToldTextShape]:
        """Failures told in words; with `waiting` only those that match no requirement."""
        return self._get(wire_fleet.ToldTextList, "/failure-texts", platform=platform, waiting=waiting).items

    def match_failure_text(self, platform: str, text: str, requirement: str) -> wire_fleet.ToldTextShape:
        asked = wire_fleet.TextMatchAsked(platform=platform, text=text, requirement=requirement)
        response = self._send("POST", "/failure-texts/match", body=asked)
        return wire_fleet.ToldTextShape.model_validate_json(response.content)

    def new_requirement(self, asked: wire_fleet.NewRequirementAsked) -> wire_fleet.ToldTextShape:
        """Make a failure text into a requirement of its own, unsorted."""
        response = self._send("POST", "/failure-texts/requirement", body=asked)
        return wire_fleet.ToldTextShape.model_validate_json(response.content)

    # ------------------------------------------------------------- disputes

    def disputes(self, platform: str, release: str = "", device: str = "") -> list[wire_fleet.DisputeShape]:
        params = {"platform": platform, "release": release, "device": device}
        return self._get(wire_fleet.DisputeList, "/disputes", **params).items

    def settle_dispute(self, asked: wire_fleet.SettlementAsked) -> wire_fleet.SettlementShape:
        return self._create(wire_fleet.SettlementShape, "/settlements", asked)

    def settlements(self, device: str) -> list[wire_fleet.SettlementShape]:
        """How disputes of a device were settled, newest first."""
        return self._get(wire_fleet.SettlementList, "/settlements", device=device).items

    # ---------------------------------------------------------------- fleet

    def fleet(self, platform: str, **where: Any) -> wire_fleet.FleetShape:
        """Counts. `where`: release, by, selection, state, site, role, model, requirement, mark, words."""
        return self._get(wire_fleet.FleetShape, "/fleet", platform=platform, **where)

    def compare_fleet(self, platform: str, **sides: Any) -> wire_fleet.ComparisonShape:
        """Two sides: release, route, other_release, other_route; and which devices, as in `fleet`."""
        return self._get(wire_fleet.ComparisonShape, "/fleet/comparison", platform=platform, **sides)

    def what_if(self, asked: wire_fleet.WhatIfAsked) -> wire_fleet.SupposedShape:
        """Counts before and after; nothing is written."""
        response = self._send("POST", "/fleet/what-if", body=asked)
        return wire_fleet.SupposedShape.model_validate_json(response.content)

    def fix_round(self, platform: str, **where: Any) -> wire_fleet.FixRoundShape:
        return self._get(wire_fleet.FixRoundShape, "/fixes", platform=platform, **where)

    def fix_round_csv(self, platform: str, **where: Any) -> str:
        return self._send("GET", "/fixes.csv", params={"platform": platform, **where}).text

    def device_fixes(self, device: str, release: str = "") -> wire_fleet.DeviceFixesShape:
        return self._get(wire_fleet.DeviceFixesShape, f"/devices/{device}/fixes", release=release)

    def record_fix(self, device: str, asked: wire_fleet.FixDoneAsked) -> wire_fleet.FixDoneShape:
        """Record a fix as done, or as tried and failed."""
        return self._create(wire_fleet.FixDoneShape, f"/devices/{device}/fixes", asked)

    def selections(self) -> list[wire_fleet.SelectionShape]:
        return self._get(wire_fleet.SelectionList, "/selections").items

    def save_selection(self, name: str, asked: wire_fleet.SelectionAsked) -> wire_fleet.SelectionShape:
        response = self._send("PUT", f"/selections/{quote(name, safe='')}", body=asked)
        return wire_fleet.SelectionShape.model_validate_json(response.content)

    def delete_selection(self, name: str) -> None:
        self._send("DELETE", f"/selections/{quote(name, safe='')}")

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
