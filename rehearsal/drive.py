"""The rehearsal: a fleet of stand-in machines goes month by month through the releases, doing what Door Stone says.

Each forecast that is acted on, each kit and each standing is compared with what happens; what differs is a `Miss`.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from doorstone.core.exceptions.requests import NewException, NewTerms
from doorstone.core.forecast.costs import add_months
from doorstone.core.forecast.device_forecast import PlannedMove
from doorstone.core.forecast.reach import Way
from doorstone.demo.media import MEDIA
from doorstone.demo.seed import ANSELM, PEOPLE, PETRA, WILHELMINA, sheet_text
from doorstone.store import people as people_store
from doorstone.store.database import Database
from doorstone.work import attempts, followups, media
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.clock import FixedClock
from doorstone.work.context.context import Context
from doorstone.work.context.errors import WorkError
from doorstone.work.context.ids import id_of
from doorstone.work.due import due_list as due
from doorstone.work.exceptions import decisions
from doorstone.work.exceptions import requests as exceptions
from doorstone.work.kits import kits
from doorstone.work.media import NewMedia
from doorstone.work.platforms import revisions
from doorstone.work.readings import import_job
from doorstone.work.readings.import_job import ImportOptions
from doorstone.work.snapshot.snapshot import Snapshot, snapshot
from doorstone.work.updates import NewObservation, record_observations
from doorstone_standins import assessor, setup_program, update_service
from doorstone_standins import media as stick_maker
from doorstone_standins.machine import Machine
from doorstone_standins.worlds import by_name
from rehearsal.clock import environment
from rehearsal.fleet import machines, make_fix

START, END = date(2027, 1, 18), date(2030, 1, 18)
LANGUAGES = ("en", "nl", "cy", "de")


@dataclass(frozen=True, slots=True)
class Miss:
    """A difference between forecast and fact. `what` is forecast, kit, follow-up, runway or standing."""

    day: date
    device: str
    what: str
    said: str
    happened: str

    def __str__(self) -> str:
        return f"{self.day} {self.device} {self.what}: said {self.said}; {self.happened}"


@dataclass
class Rehearsal:
    """One run. `moves` counts what was done by way; `noticed` are surprises that stood in the due list, by day."""

    folder: Path
    world: str = "true"
    only: set[str] | None = None
    moves: dict[str, int] = field(default_factory=dict)
    misses: list[Miss] = field(default_factory=list)
    noticed: dict[str, date] = field(default_factory=dict)
    foretold: dict[str, date | None] = field(default_factory=dict)
    held: dict[str, date] = field(default_factory=dict)  # the last day on a serviced release, as it came

    def __post_init__(self) -> None:
        self.worlds = by_name(self.world)
        self.machines = machines(self.folder / "machines", self.only)
        self.sticks: dict[tuple[str, str, str], Path] = {}
        self.database = Database(self.folder / "doorstone.db")
        self.kept = Context(self.database, FixedClock(datetime.combine(START, time(9))))
        self.stuck: set[tuple[str, str]] = set()

    def context(self, day: date, hour: int = 9) -> Context:
        """The one context, at that hour."""
        self.kept.clock = FixedClock(datetime.combine(day, time(hour)))
        return self.kept

    # ---------------------------------------------------------------- the months

    def run(self, until: date = END, tell: bool = False) -> Rehearsal:
        """Month by month until a day; with `tell`, a line a month says how far it is."""
        self._open(START)
        month, day = 0, START
        while day < until:
            self._month(day)
            if tell:
                print(f"{day}: {sum(self.moves.values())} moves, {len(self.misses)} misses", flush=True)
            month += 1
            day = add_months(START, month)
        for device, said in self.foretold.items():
            came = self.held.get(device)
            if said != came and not any(miss.device == device for miss in self.misses):
                self.misses.append(Miss(until, device, "runway", str(said), f"it was serviced through {came}"))
        self.database.close()
        return self

    def _open(self, day: date) -> None:
        context = self.context(day, 7)
        with self.database.write() as db:
            for name, display, role in PEOPLE:
                people_store.add(db, name, display, role, "", context.now())
        for platform in ("tarn", "brindle"):
            revisions.load_sheet(context, WILHELMINA, *sheet_text(platform), f"{platform}.toml")

    def _month(self, day: date) -> None:
        self._media(day)
        self._read(day, list(self.machines.values()))
        now = snapshot(self.context(day))
        for device in sorted(self.machines):
            if day == START:
                ahead = now.forecast(device)
                self.foretold[device] = ahead.technical.runway if ahead else None
        for device, target in sorted(self.machines.items()):
            self._step(day, device, target)
            self._serviced(device, target, day)
        self._observe(day)

    def _serviced(self, device: str, target: Machine, day: date) -> None:
        truth = target.truth
        ends = self.worlds[truth["platform"]].serviced[truth["edition"]][truth["release"]]
        if ends >= day:
            self.held[device] = max(ends, self.held.get(device, ends))

    # ------------------------------------------------------- media, readings, seen

    def _media(self, day: date) -> None:
        context = self.context(day, 8)
        for name, world in self.worlds.items():
            for release in world.order[1:]:
                if world.published[release] > day or (name, release, "en") in self.sticks:
                    continue
                like = next(m for m in MEDIA if m.platform == name)
                for language in LANGUAGES if name == "tarn" else ("en",):
                    given: NewMedia = replace(like, release=release, asked=release, language=language)
                    media.add_media(context, PETRA, given)
                    editions = tuple(world.serviced)
                    folder = self.folder / "sticks" / f"{name}-{release}-{language}"
                    self.sticks[name, release, language] = stick_maker.create(
                        folder, release, platform=name, language=language, editions=editions
                    )

    def _read(self, day: date, targets: list[Machine], hour: int = 8) -> None:
        for target in targets:
            target.change(backup=(day - timedelta(days=1)).isoformat())
        at = datetime.combine(day, time(hour, 30)).isoformat()
        text = "".join(assessor.report(target, at) for target in targets)
        import_job.import_readings(self.context(day, hour + 1), PETRA, text, ImportOptions("ndjson", "month.ndjson"))

    def _observe(self, day: date) -> None:
        """What the update service says of each machine that runs by a waiver, and what the due list makes of it."""
        given = []
        for device, target in sorted(self.machines.items()):
            if not target.truth.get("by_waiver"):
                continue
            offered = update_service.offers(target, day, self.worlds)
            for kind in ("security", "driver", "release"):
                one = offered[kind]
                given.append(
                    NewObservation(device, day, kind, one["result"], one.get("reason", ""), "update-service", "")
                )
        context = self.context(day, 18)
        record_observations(context, PETRA, given)
        for one_due in due.due_list(context):
            if one_due.kind == "standing-differs":
                self.noticed.setdefault(f"{one_due.object} {one_due.part}", day)

    # ------------------------------------------------------------------ one device

    def _step(self, day: date, device: str, target: Machine) -> None:
        """Do every move that is due today."""
        for hour in (10, 12, 14, 16):
            context = self.context(day, hour)
            now = snapshot(context)
            ahead = now.forecast(device)
            if ahead is None or not ahead.technical.moves:
                return
            move = ahead.technical.moves[0]
            if move.first > day or (device, move.release) in self.stuck:
                return
            self.moves[move.way.value] = self.moves.get(move.way.value, 0) + 1
            if not self._move(context, now, device, target, move):
                self.stuck.add((device, move.release))
                return
            self._read(day, [target], hour)

    def _move(self, context: Context, now: Snapshot, device: str, target: Machine, move: PlannedMove) -> bool:
        day, hour = context.today(), context.clock.now().hour
        platform = now.need_sheet(device).platform
        if move.fixes:
            for finding in now.assessment(device, move.release).unmet("fixable"):
                make_fix(target, dict(finding.fixes[0].gives))
            self._read(day, [target], hour)
            context = self.context(day, hour + 1)
            now = snapshot(context)
        reach = next(r for r in now.forecast(device).reaches if r.release == move.release)  # type: ignore[union-attr]
        language = target.truth["language"]
        stick = self.sticks.get((platform.id, move.release, language)) or self.sticks[platform.id, move.release, "en"]
        if move.way is not Way.BY_EXCEPTION:
            route = "in-place" if target.truth["system_bits"] == 64 else "clean"
            carry = "everything" if route == "in-place" else "nothing"
            words = ["--machine", str(target.folder), "--media", str(stick), "--release", move.release]
            code, said = setup_program.run([*words, "--route", route, "--carry-over", carry], self.worlds)
            return self._compare(context, device, move, code, said, "")
        try:
            kit = self._kit(context, now, device, move.release, reach.route.value, reach.checks)
        except WorkError as error:
            reasons = "; ".join(f"{t.pointer}: {t.detail}" for t in getattr(error, "errors", ())) or str(error)
            self.misses.append(Miss(day, device, "kit", f"by exception to {move.release}", f"refused: {reasons}"))
            return False
        folder = self._write(context, kit)
        code, said = self._by_kit(folder, target, stick, context.today())
        done = self._compare(context, device, move, code, said, kit)
        if done:
            self._follow_up(context, device, target, folder)
        return done

    def _kit(
        self, context: Context, now: Snapshot, device: str, release: str, route: str, checks: tuple[str, ...]
    ) -> str:
        """The exceptions that are missing are asked for and approved; then the kit is made."""
        platform = now.need_sheet(device).platform
        named = {
            name for e in now.exceptions_of(device) if e.in_force(now.today) and e.reaches(platform, release)
            for name in e.requirements
        }  # fmt: skip
        if missing := tuple(name for name in checks if name not in named):
            risk = exceptions.risk(context, platform, release)
            day = context.today()
            terms = NewTerms("Rehearsed.", (), "petra", day, day + timedelta(days=364), day + timedelta(days=180))
            asked = NewException(release, False, missing, (device,), risk.text, terms, risk.notice)
            name = exceptions.request(context, PETRA, asked).id
            decisions.decide(context, ANSELM, name, "approve", "Rehearsed.", 1)
        carry = "nothing" if route == "clean" else "everything"
        waive = {"media-table": "The stick was made for it."} if (platform.id, route) == ("tarn", "clean") else {}
        return kits.make_kit(context, PETRA, device, release, route, carry, waive).id

    def _write(self, context: Context, kit: str) -> Path:
        import io
        import zipfile

        with zipfile.ZipFile(io.BytesIO(kits.kit_archive(context, kit))) as bundle:
            bundle.extractall(self.folder / "kits")
        return self.folder / "kits" / kit

    def _by_kit(self, folder: Path, target: Machine, stick: Path, day: date) -> tuple[int, dict[str, Any]]:
        """What the technician does, with the kit's own scripts, as the runbook has it."""
        start = folder.parent / "start"
        start.write_text(
            f'#!/bin/sh\nexec "{sys.executable}" -m doorstone_standins.main set-up --machine "{target.folder}"'
            f' --media "{stick}" "$@"\n'
        )
        start.chmod(0o755)
        env = environment(folder.parent / "clock", day)
        _sh(folder / "apply", target.root, env)
        target.restart()
        _sh(folder / "apply", target.root, env)
        if (folder / "media-apply").exists():
            _sh(folder / "media-apply", stick, env)
        env = {**env, "SET_UP": str(start), "STANDIN_WORLD": self.world}
        done = subprocess.run(["sh", str(folder / "set-up")], capture_output=True, text=True, env=env, timeout=60)
        said: dict[str, Any] = json.loads(done.stdout)
        if done.returncode and (folder / "media-undo").exists():
            _sh(folder / "media-undo", stick, env)
        return done.returncode, said

    def _compare(
        self, context: Context, device: str, move: PlannedMove, code: int, said: Mapping[str, Any], kit: str
    ) -> bool:
        """Record the attempt, and a miss where it did not complete."""
        at = context.clock.now()
        known = {r.id for r in snapshot(context).need_sheet(device).platform.requirements_at(move.release)}
        refused_by = tuple(name for name in said["checks"] if name in known) if code == 10 else ()
        given = NewAttempt(
            device, kit, move.release, "in-place", "everything", said["outcome"], refused_by, said["say"], "",
            "set-up 1", at, at, notice_accepted=bool(kit),
            mismatch=", ".join(said["checks"]) if said["outcome"] == "carry-over-lost" else "",
        )  # fmt: skip
        attempts.record_attempt(context, PETRA, given)
        if code == 0:
            return True
        what = f"{said['outcome']} by {', '.join(said['checks']) or 'nothing named'}"
        self.misses.append(Miss(context.today(), device, "forecast", f"{move.way} to {move.release}", what))
        return False

    def _follow_up(self, context: Context, device: str, target: Machine, folder: Path) -> None:
        """Every follow-up is done; afterwards the machine must start without the stick, with its patches in."""
        if (folder / "loader-apply").exists():
            _sh(folder / "loader-apply", target.root, environment(folder.parent / "clock", context.today()))
        for step in followups.device_followups(context, device).steps:
            answer = "as-before" if step.kind == "performance" else ""
            followups.settle(
                context, PETRA, id_of("FU", step.id), "done", answer, "", confirm=step.kind == "ends-rollback"
            )
        if (state := setup_program.starts(target)) != "yes":
            words = f"without the stick it {'does not start' if state == 'no' else 'starts dark'}"
            self.misses.append(Miss(context.today(), device, "follow-up", "all are done", words))

    def summary(self) -> Iterator[str]:
        """What came of it, in lines."""
        moves = ", ".join(f"{count} {way}" for way, count in sorted(self.moves.items()))
        yield f"{len(self.machines)} machines, {sum(self.moves.values())} moves ({moves or 'none'})"
        yield f"{len(self.misses)} misses"
        yield from (f"  {miss}" for miss in self.misses)
        yield f"{len(self.noticed)} standings noticed to differ"


def _sh(script: Path, root: Path, env: Mapping[str, str]) -> None:
    subprocess.run(["sh", str(script), str(root)], capture_output=True, text=True, check=True, timeout=60, env=env)
