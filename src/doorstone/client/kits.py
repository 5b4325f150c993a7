"""The client's calls on media and kits."""

from __future__ import annotations

from doorstone.api.common import KitRoute
from doorstone.api.kits import (
    GateList,
    GateResponse,
    KitBatchRequest,
    KitBatchResponse,
    KitCasesResponse,
    KitDetail,
    KitDifferenceList,
    KitDifferenceResponse,
    KitList,
    KitRequest,
    KitResponse,
    RouteList,
    RouteResponse,
    SettingsSetList,
    SettingsSetResponse,
)
from doorstone.api.media import (
    MediaList,
    MediaPlanRequest,
    MediaPlanResponse,
    MediaRequest,
    MediaResponse,
    MediaVerifyRequest,
    MediaWithdrawRequest,
)
from doorstone.client.transport import Transport


class KitCalls(Transport):
    """Media, gates, routes and kits."""

    def media(self, platform: str = "", withdrawn: bool = False) -> list[MediaResponse]:
        """Set-up media on record, newest first."""
        return self._get(MediaList, "/media", platform=platform, withdrawn=withdrawn).items

    def one_media(self, name: str) -> MediaResponse:
        return self._get(MediaResponse, f"/media/{name}")

    def add_media(self, request: MediaRequest) -> MediaResponse:
        """Raises `RefusedError` if its SHA-256 is not the published one."""
        return self._create(MediaResponse, "/media", request)

    def verify_media(self, name: str, published_sha256: str) -> MediaResponse:
        request = MediaVerifyRequest(published_sha256=published_sha256)
        return self._made(MediaResponse, "POST", f"/media/{name}/verification", request)

    def withdraw_media(self, name: str, why: str) -> MediaResponse:
        return self._made(MediaResponse, "POST", f"/media/{name}/withdrawal", MediaWithdrawRequest(why=why))

    def media_plan(self, request: MediaPlanRequest) -> MediaPlanResponse:
        """Which media a batch needs; nothing is recorded."""
        return self._made(MediaPlanResponse, "POST", "/media/plan", request)

    def kits(self, device: str = "") -> list[KitResponse]:
        return self._get(KitList, "/kits", device=device).items

    def make_kits(self, request: KitBatchRequest) -> KitBatchResponse:
        """Make one kit for each distinct set of needs. Raises `RefusedError` if none of them can have one."""
        return self._create(KitBatchResponse, "/kits/each", request)

    def make_kit(self, request: KitRequest) -> KitDetail:
        """`RefusedError.problem.errors` says why there may be none."""
        return self._create(KitDetail, "/kits", request)

    def gates(self, device: str, route: KitRoute = "in-place", **how: str) -> list[GateResponse]:
        """What must hold before a kit of the device may be used, today. `how`: release, carry_over, media."""
        return self._get(GateList, f"/devices/{device}/gates", route=route, **how).items

    def settings_sets(self, device: str) -> list[SettingsSetResponse]:
        """The settings for after an upgrade, and whether each is in place on the device."""
        return self._get(SettingsSetList, f"/devices/{device}/sets").items

    def routes(self, device: str, release: str = "") -> list[RouteResponse]:
        """The routes of a device side by side, were every check on it excepted."""
        return self._get(RouteList, f"/devices/{device}/routes", release=release).items

    def kit_cases(self, request: KitBatchRequest) -> KitCasesResponse:
        """The kits that devices need, one for each distinct set of needs. Nothing is made."""
        return self._made(KitCasesResponse, "POST", "/kits/cases", request)

    def kit_differences(self, one: str, other: str) -> list[KitDifferenceResponse]:
        return self._get(KitDifferenceList, f"/kits/{one}/differences", other=other).items

    def runbook_page(self, name: str) -> bytes:
        """A kit's runbook as an HTML page to print, with boxes to tick."""
        return self._send("GET", f"/kits/{name}/runbook").content

    def signing_key(self) -> bytes:
        """The public key that kits are checked against, PEM."""
        return self._send("GET", "/kits/key").content

    def kit(self, name: str) -> KitDetail:
        return self._get(KitDetail, f"/kits/{name}")

    def download_kit(self, name: str) -> bytes:
        """The kit as a zip. Raises `RefusedError` once something that it rests on has changed."""
        return self._send("GET", f"/kits/{name}/archive").content
