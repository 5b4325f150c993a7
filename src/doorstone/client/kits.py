"""The part of the client that speaks of media and of kits."""

from __future__ import annotations

from doorstone.client.calls import Calls
from doorstone.formats import wire_kits as wire
from doorstone.formats.wire import KitRoute


class KitCalls(Calls):
    """Media, gates, routes and kits."""

    def media(self, platform: str = "", withdrawn: bool = False) -> list[wire.MediaShape]:
        """Set-up media on record, newest first."""
        return self._get(wire.MediaList, "/media", platform=platform, withdrawn=withdrawn).items

    def one_media(self, name: str) -> wire.MediaShape:
        return self._get(wire.MediaShape, f"/media/{name}")

    def add_media(self, asked: wire.MediaAsked) -> wire.MediaShape:
        """Raises `RefusedError` if its SHA-256 is not the published one."""
        return self._create(wire.MediaShape, "/media", asked)

    def verify_media(self, name: str, published_sha256: str) -> wire.MediaShape:
        asked = wire.MediaVerifyAsked(published_sha256=published_sha256)
        return self._made(wire.MediaShape, "POST", f"/media/{name}/verification", asked)

    def withdraw_media(self, name: str, why: str) -> wire.MediaShape:
        return self._made(wire.MediaShape, "POST", f"/media/{name}/withdrawal", wire.MediaWithdrawAsked(why=why))

    def media_plan(self, asked: wire.MediaPlanAsked) -> wire.MediaPlanShape:
        """Which media a batch needs; nothing is recorded."""
        return self._made(wire.MediaPlanShape, "POST", "/media/plan", asked)

    def kits(self, device: str = "") -> list[wire.KitShape]:
        return self._get(wire.KitList, "/kits", device=device).items

    def make_kit(self, asked: wire.KitAsked) -> wire.KitDetail:
        """`RefusedError.problem.troubles` says why there may be none."""
        return self._create(wire.KitDetail, "/kits", asked)

    def gates(self, device: str, route: KitRoute = "in-place", **how: str) -> list[wire.GateShape]:
        """What must hold before a kit of the device may be used, today. `how`: release, carry_over, media."""
        return self._get(wire.GateList, f"/devices/{device}/gates", route=route, **how).items

    def settings_sets(self, device: str) -> list[wire.SettingsSetShape]:
        """The settings for after an upgrade, and whether each is in place on the device."""
        return self._get(wire.SettingsSetList, f"/devices/{device}/sets").items

    def routes(self, device: str, release: str = "") -> list[wire.RouteShape]:
        """The routes of a device side by side, were every check on it excepted."""
        return self._get(wire.RouteList, f"/devices/{device}/routes", release=release).items

    def kit_cases(self, asked: wire.KitAsked) -> wire.KitCasesShape:
        """How devices split into the fewest kits; nothing is made."""
        return self._made(wire.KitCasesShape, "POST", "/kits/cases", asked)

    def kit_differences(self, one: str, other: str) -> list[wire.KitDifferenceShape]:
        return self._get(wire.KitDifferenceList, f"/kits/{one}/differences", other=other).items

    def runbook_page(self, name: str) -> bytes:
        """A kit's runbook as an HTML page to print, with boxes to tick."""
        return self._send("GET", f"/kits/{name}/runbook").content

    def signing_key(self) -> bytes:
        """The public key that kits are checked against, PEM."""
        return self._send("GET", "/kits/key").content

    def kit(self, name: str) -> wire.KitDetail:
        return self._get(wire.KitDetail, f"/kits/{name}")

    def download_kit(self, name: str) -> bytes:
        """The kit as a zip. Raises `RefusedError` once something that it rests on has changed."""
        return self._send("GET", f"/kits/{name}/archive").content
