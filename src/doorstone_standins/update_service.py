"""A simulated update service over HTTP: `GET /offers/MACHINE?on=DAY` says what each class of updates gets.

Its own policy: security updates arrive wherever the release is serviced; drivers stop for unlisted processors; the
next release is withheld from a machine that fails its checks, and offered to a share of the others while it is new.
"""

from __future__ import annotations

import json
import zlib
from datetime import date, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from doorstone_standins.machine import Machine
from doorstone_standins.setup_program import CHECKS, FLOORS, ORDER

PUBLISHED = {
    "9.0": date(2025, 3, 4),
    "9.1": date(2026, 5, 12),
    "9.2": date(2027, 3, 16),
    "9.3": date(2027, 12, 14),
}
SERVICED = {
    "8": date(2027, 2, 28),
    "9.0": date(2026, 9, 30),
    "9.1": date(2027, 11, 30),
    "9.2": date(2028, 9, 30),
    "9.3": date(2029, 6, 30),
}
WITHHOLDING = {"processor-listed", "security-chip"}


def offers(machine: Machine, on: date) -> dict[str, Any]:
    """What the service offers this machine on a day."""
    truth = machine.truth
    serviced = on <= SERVICED[truth["release"]]
    answer: dict[str, Any] = {"machine": truth["name"], "release": truth["release"], "on": on.isoformat()}
    answer["security"] = {"result": "arrived"} if serviced else {"result": "not-offered", "reason": "unsupported"}
    fails = {name for name, holds in {**CHECKS, **FLOORS}.items() if not holds(truth)}
    drivers = "processor-listed" not in fails and serviced
    answer["driver"] = {"result": "arrived"} if drivers else {"result": "not-offered", "reason": "unsupported"}
    later = [r for r in ORDER[ORDER.index(truth["release"]) + 1 :] if PUBLISHED[r] <= on]
    if not later:
        answer["release"] = {"result": "not-offered", "reason": "unknown"}
    elif fails & (WITHHOLDING | set(FLOORS)):
        answer["release"] = {"result": "not-offered", "reason": "unsupported", "detail": later[-1]}
    elif on < PUBLISHED[later[-1]] + timedelta(days=zlib.crc32(truth["name"].encode()) % 60):
        answer["release"] = {"result": "not-offered", "reason": "phased", "detail": later[-1]}
    else:
        answer["release"] = {"result": "offered", "detail": later[-1]}
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
