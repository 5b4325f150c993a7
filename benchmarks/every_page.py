"""Every GET that answers a page, one caller: the first time after something has changed, and again."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import httpx

from benchmarks.fleet import PLATFORM, TARGET, device
from benchmarks.load import service
from benchmarks.measures import Row, bound
from benchmarks.pages import warm
from benchmarks.records import Records

WHOLE = frozenset({"export_exceptions", "exception_folder", "export_ledger", "make_evidence", "check_ledger", "doctor"})
"""What reads all there is, on purpose: exports, packs, checks of everything."""
NAMES: Mapping[str, str] = {
    "platform": PLATFORM, "device": device(17), "exception": "EX-0001", "requirement": "chip", "number": "1",
    "release": TARGET, "one": "1", "other": "1", "kind": "device", "object": device(17),
}  # fmt: skip
READABLE = ("application/json", "text/html")


@dataclass(frozen=True, slots=True)
class GetTimes:
    """Milliseconds of one GET: the first after a change, and the next."""

    path: str
    first: float
    again: float


def every_get(records: Records) -> list[GetTimes]:
    """Each GET that answers a page: asked once, then again after one device reads otherwise and somebody comments."""
    found = []
    with service(records.folder) as (port, _):
        base = f"http://127.0.0.1:{port}"
        head = {"Authorization": f"Bearer {records.token}"}
        with httpx.Client(base_url=base, headers=head, timeout=600) as client:
            warm(port, records)
            document = client.get("/api/v1/openapi.json").raise_for_status().json()
            for turn, (path, asked) in enumerate(_pages(document)):
                _taken(client, path, asked)
                _change(client, turn)
                first, answer = _taken(client, path, asked)
                again = min(_taken(client, path, asked)[0] for _ in range(2))  # a round may run beside one
                if answer.status_code == 200:
                    found.append(GetTimes(path, first, again))
    return sorted(found, key=lambda one: -one.first)


def _pages(document: Mapping[str, Any]) -> Iterator[tuple[str, dict[str, str]]]:
    for path, methods in document["paths"].items():
        if "get" not in methods or methods["get"]["operationId"] in WHOLE:
            continue
        operation = methods["get"]
        if not set(operation["responses"]["200"].get("content", ())) & set(READABLE):
            continue
        given = {p["name"]: p for p in operation.get("parameters", ()) if "name" in p}
        asked = {name: NAMES.get(name, "1") for name, p in given.items() if p["in"] == "query" and p.get("required")}
        if "release" in given and "platform" in given and given["release"]["in"] == "query":
            asked["release"] = TARGET
        yield re.sub(r"{(\w+)}", lambda m: NAMES.get(m[1], "1"), path), asked


def _change(client: httpx.Client, turn: int) -> None:
    """A device reads other memory than before, and a comment is made."""
    changed = {"device": device(17), "source": "agent", "taken_at": f"2027-01-18T12:{turn // 60:02}:{turn % 60:02}",
               "facts": {"memory.mib": 3_900 + 4_096 * (turn % 3)}}  # fmt: skip
    body = {"form": "json", "text": json.dumps([changed])}
    client.post("/api/v1/readings", json=body).raise_for_status()
    client.post("/api/v1/exceptions/EX-0001/comments", json={"text": f"Seen, {turn}."}).raise_for_status()


def _taken(client: httpx.Client, path: str, asked: Mapping[str, str]) -> tuple[float, httpx.Response]:
    began = time.perf_counter()
    answer = client.get(path, params=asked)
    return (time.perf_counter() - began) * 1000, answer


def page_rows(size: int, found: list[GetTimes]) -> Iterator[Row]:
    """The slowest of all, first and again."""
    first, again = max(found, key=lambda one: one.first), max(found, key=lambda one: one.again)
    some = f"slowest of {len(found)} GETs, {size:,} devices"
    yield bound(f"{some}, first after a change: {first.path}", first.first, 1000, "ms")
    yield bound(f"{some}, again: {again.path}", again.again, 100, "ms")
