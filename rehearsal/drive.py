"""The rehearsal: a fleet of stand-in machines goes month by month through the releases, doing what Door Stone says.

Each forecast that is acted on, each kit and each standing is compared with what happens; what differs is a `Miss`.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from doorstone.core.costs import add_months
from doorstone.core.forecast import PlannedMove, Way
from doorstone.demo.media import MEDIA
from doorstone.demo.seed import ANSELM, PEOPLE, PETRA, WILHELMINA, sheet_text
from doorstone.store import people as people_store
from doorstone.store.database import Database
from doorstone.work import after, attempts, deciding, due, exceptions, intake, kits, media, revisions
from doorstone.work.attempts import AttemptGiven, ObservationGiven
from doorstone.work.desk import Desk, FixedClock, id_of
from doorstone.work.errors import WorkError
from doorstone.work.exceptions import ExceptionAsked, ExceptionTermsGiven
from doorstone.work.intake import ImportGiven
from doorstone.work.media import MediaGiven
from doorstone.work.picture import Picture, picture
from doorstone_standins import assessor, setup_program, update_service
from doorstone_standins import media as stick_maker
from doorstone_standins.machine import Machine
from doorstone_standins.worlds import by_name
from rehearsal.fleet import machines, make_fix

START, END = date(2027, 1, 18), date(2030, 1, 18)
LANGUAGES = ("en", "nl", "cy", "de")


@dataclass(frozen=True, slots=True)
class Miss:
    """What happened otherwise than was said. `what` is forecast, kit, follow-up, runway or standing."""

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
        self.kept = Desk(self.database, FixedClock(datetime.combine(START, time(9))))
        self.stuck: set[tuple[str, str]] = set()

    def desk(self, day: date, hour: int = 9) -> Desk:
        """The one desk, at that hour."""
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
        desk = self.desk(day, 7)
        with self.database.write() as db:
            for name, display, role in PEOPLE:
                people_store.add(db, name, display, role, "", desk.now())
        for platform in ("tarn", "brindle"):
            revisions.load_sheet(desk, WILHELMINA, *sheet_text(platform), f"{platform}.toml")

    def _month(self, day: date) -> None:
        self._media(day)
        self._read(day, list(self.machines.values()))
        now = picture(self.desk(day))
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
        desk = self.desk(day, 8)
        for name, world in self.worlds.items():
            for release in world.order[1:]:
                if world.published[release] > day or (name, release, "en") in self.sticks:
                    continue
                like = next(m for m in MEDIA if m.platform == name)
                for language in LANGUAGES if name == "tarn" else ("en",):
                    given: MediaGiven = replace(like, release=release, asked=release, language=language)
                    media.add_media(desk, PETRA, given)
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
        intake.import_readings(self.desk(day, hour + 1), PETRA, text, ImportGiven("ndjson", "month.ndjson"))

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
                    ObservationGiven(device, day, kind, one["result"], one.get("reason", ""), "update-service", "")
                )
        desk = self.desk(day, 18)
        attempts.record_observations(desk, PETRA, given)
        for one_due in due.due_list(desk):
            if one_due.kind == "standing-differs":
                self.noticed.setdefault(f"{one_due.object} {one_due.part}", day)

    # ------------------------------------------------------------------ one device

    def _step(self, day: date, device: str, target: Machine) -> None:
        """Do every move that is due today."""
        for hour in (10, 12, 14, 16):
            desk = self.desk(day, hour)
            now = picture(desk)
            ahead = now.forecast(device)
            if ahead is None or not ahead.technical.moves:
                return
            move = ahead.technical.moves[0]
            if move.first > day or (device, move.release) in self.stuck:
                return
            self.moves[move.way.value] = self.moves.get(move.way.value, 0) + 1
            if not self._move(desk, now, device, target, move):
                self.stuck.add((device, move.release))
                return
            self._read(day, [target], hour)

    def _move(self, desk: Desk, now: Picture, device: str, target: Machine, move: PlannedMove) -> bool:
        day, hour = desk.today(), desk.clock.now().hour
        platform = now.need_sheet(device).platform
        if move.fixes:
            for finding in now.assessment(device, move.release).unmet("fixable"):
                make_fix(target, dict(finding.fixes[0].gives))
            self._read(day, [target], hour)
            desk = self.desk(day, hour + 1)
            now = picture(desk)
        reach = next(r for r in now.forecast(device).reaches if r.release == move.release)  # type: ignore[union-attr]
        language = target.truth["language"]
        stick = self.sticks.get((platform.id, move.release, language)) or self.sticks[platform.id, move.release, "en"]
        if move.way is not Way.BY_EXCEPTION:
            route = "in-place" if target.truth["system_bits"] == 64 else "clean"
            carry = "everything" if route == "in-place" else "nothing"
            words = ["--machine", str(target.folder), "--media", str(stick), "--release", move.release]
            code, said = setup_program.run([*words, "--route", route, "--carry-over", carry], self.worlds)
            return self._compare(desk, device, move, code, said, "")
        try:
            kit = self._kit(desk, now, device, move.release, reach.route.value, reach.checks)
        except WorkError as error:
            reasons = "; ".join(f"{t.place}: {t.message}" for t in getattr(error, "troubles", ())) or str(error)
            self.misses.append(Miss(day, device, "kit", f"by exception to {move.release}", f"refused: {reasons}"))
            return False
        folder = self._write(desk, kit)
        code, said = self._by_kit(folder, target, stick)
        done = self._compare(desk, device, move, code, said, kit)
        if done:
            self._follow_up(desk, device, target, folder)
        return done

    def _kit(self, desk: Desk, now: Picture, device: str, release: str, route: str, checks: tuple[str, ...]) -> str:
        """The exceptions that are missing are asked for and approved; then the kit is made."""
        platform = now.need_sheet(device).platform
        named = {
            name for e in now.exceptions_of(device) if e.in_force(now.today) and e.reaches(platform, release)
            for name in e.requirements
        }  # fmt: skip
        if missing := tuple(name for name in checks if name not in named):
            risk = exceptions.risk(desk, platform, release)
            day = desk.today()
            terms = ExceptionTermsGiven(
                "Rehearsed.", (), "petra", day, day + timedelta(days=364), day + timedelta(days=180)
            )
            asked = ExceptionAsked(release, False, missing, (device,), risk.text, terms, risk.notice)
            name = exceptions.request(desk, PETRA, asked).id
            deciding.decide(desk, ANSELM, name, "approve", "Rehearsed.", 1)
        carry = "nothing" if route == "clean" else "everything"
        waive = {"media-table": "The stick was made for it."} if (platform.id, route) == ("tarn", "clean") else {}
        return kits.make_kit(desk, PETRA, device, release, route, carry, waive).id

    def _write(self, desk: Desk, kit: str) -> Path:
        import io
        import zipfile

        with zipfile.ZipFile(io.BytesIO(kits.kit_archive(desk, kit))) as bundle:
            bundle.extractall(self.folder / "kits")
        return self.folder / "kits" / kit

    def _by_kit(self, folder: Path, target: Machine, stick: Path) -> tuple[int, dict[str, Any]]:
        """What the technician does, with the kit's own scripts, as the runbook has it."""
        start = folder.parent / "start"
        start.write_text(
            f'#!/bin/sh\nexec "{sys.executable}" -m doorstone_standins.main set-up --machine "{target.folder}"'
            f' --media "{stick}" "$@"\n'
        )
        start.chmod(0o755)
        _sh(folder / "apply", target.root)
        target.restart()
        _sh(folder / "apply", target.root)
        if (folder / "media-apply").exists():
            _sh(folder / "media-apply", stick)
        env = {**os.environ, "SET_UP": str(start), "STANDIN_WORLD": self.world}
        done = subprocess.run(["sh", str(folder / "set-up")], capture_output=True, text=True, env=env, timeout=60)
        said: dict[str, Any] = json.loads(done.stdout)
        if done.returncode and (folder / "media-undo").exists():
            _sh(folder / "media-undo", stick)
        return done.returncode, said

    def _compare(
        self, desk: Desk, device: str, move: PlannedMove, code: int, said: Mapping[str, Any], kit: str
    ) -> bool:
        """Record the attempt, and a miss where it did not complete."""
        at = desk.clock.now()
        known = {r.id for r in picture(desk).need_sheet(device).platform.requirements_at(move.release)}
        refused_by = tuple(name for name in said["checks"] if name in known) if code == 10 else ()
        given = AttemptGiven(
            device, kit, move.release, "in-place", "everything", said["outcome"], refused_by, said["say"], "",
            "set-up 1", at, at, notice_accepted=bool(kit),
            mismatch=", ".join(said["checks"]) if said["outcome"] == "carry-over-lost" else "",
        )  # fmt: skip
        attempts.record_attempt(desk, PETRA, given)
        if code == 0:
            return True
        what = f"{said['outcome']} by {', '.join(said['checks']) or 'nothing named'}"
        self.misses.append(Miss(desk.today(), device, "forecast", f"{move.way} to {move.release}", what))
        return False

    def _follow_up(self, desk: Desk, device: str, target: Machine, folder: Path) -> None:
        """Every follow-up is done; afterwards the machine must start without the stick, with its patches in."""
        if (folder / "loader-apply").exists():
            _sh(folder / "loader-apply", target.root)
        for step in after.device_followups(desk, device).steps:
            answer = "as-before" if step.kind == "performance" else ""
            after.settle(desk, PETRA, id_of("FU", step.id), "done", answer, "", confirm=step.kind == "ends-rollback")
        if (state := setup_program.starts(target)) != "yes":
            words = f"without the stick it {'does not start' if state == 'no' else 'starts dark'}"
            self.misses.append(Miss(desk.today(), device, "follow-up", "all are done", words))

    def summary(self) -> Iterator[str]:
        """What came of it, in lines."""
        moves = ", ".join(f"{count} {way}" for way, count in sorted(self.moves.items()))
        yield f"{len(self.machines)} machines, {sum(self.moves.values())} moves ({moves or 'none'})"
        yield f"{len(self.misses)} misses"
        yield from (f"  {miss}" for miss in self.misses)
        yield f"{len(self.noticed)} standings noticed to differ"


def _sh(script: Path, root: Path) -> None:
    subprocess.run(["sh", str(script), str(root)], capture_output=True, text=True, check=True, timeout=60)
