"""A simulated update service over HTTP: `GET /offers/MACHINE?on=DAY` says what each class of updates gets.

Its own policy: security updates arrive wherever the release is serviced; drivers stop for unlisted processors; the
next release is withheld from a machine that fails its checks, and offered to a share of the others while it is new.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Mapping
from datetime import date, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from doorstone_standins.machine import Machine
from doorstone_standins.worlds import WORLDS, World


def offers(machine: Machine, on: date, worlds: Mapping[str, World] = WORLDS) -> dict[str, Any]:
    """What the service offers this machine on a day."""
    truth = machine.truth
    world = worlds[truth["platform"]]
    serviced = on <= world.serviced[truth["edition"]][truth["release"]]
    answer: dict[str, Any] = {"machine": truth["name"], "release": truth["release"], "on": on.isoformat()}
    here = set(world.unmet(world.checks, truth, truth["release"])) | set(
        world.unmet(world.floors, truth, truth["release"])
    )
    none = {name for name, since in world.no_security.items() if name in here and on >= since}
    nothing = {"result": "not-offered", "reason": "unsupported"}
    answer["security"] = {"result": "arrived"} if serviced and not none else nothing
    answer["driver"] = {"result": "arrived"} if serviced and not here & world.no_drivers else nothing
    later = [r for r in world.order[world.at(truth["release"]) + 1 :] if world.published[r] <= on]
    if not later:
        answer["release"] = {"result": "not-offered", "reason": "unknown"}
        return answer
    newest = later[-1]
    fails = set(world.unmet(world.checks, truth, newest)) & world.withholding
    if fails or world.unmet(world.floors, truth, newest):
        answer["release"] = {**nothing, "detail": newest}
    elif on < world.published[newest] + timedelta(days=zlib.crc32(truth["name"].encode()) % 60):
        answer["release"] = {"result": "not-offered", "reason": "phased", "detail": newest}
    else:
        answer["release"] = {"result": "offered", "detail": newest}
    return answer


def make_server(machines: Path, port: int = 0) -> ThreadingHTTPServer:
    """A server on loopback over a folder of machines; port 0 takes a free one."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            parts = urlsplit(self.path)
            name = parts.path.removeprefix("/offers/")
            folder = machines / name
            on = parse_qs(parts.query).get("on", [""])[0]
            if "/" in name or not (folder / "machine.json").is_file() or not on:
                self._answer(404, {"error": "no such machine, or no day"})
                return
            self._answer(200, offers(Machine(folder), date.fromisoformat(on)))

        def _answer(self, status: int, data: dict[str, Any]) -> None:
            body = json.dumps(data).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:
            return

    return ThreadingHTTPServer(("127.0.0.1", port), Handler)
