"""What nobody foresaw, played one by one: each must stand in the due list at the next look, and say what to do.

A surprise happens to a stand-in machine (or to the release calendar) on a day. From then on the due list is looked at
every month, after the month's readings: a surprise that is not in it within one interval is a miss.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from pathlib import Path

from msgspec.structs import replace

from doorstone.core.forecast.costs import add_months
from doorstone.demo.seed import PETRA
from doorstone.work import attempts, followups
from doorstone.work.attempts import NewAttempt
from doorstone.work.context.context import Context
from doorstone.work.due import due_list as due
from doorstone.work.fixes import done as fixes_done
from doorstone.work.fixes.done import NewFixResult
from doorstone.work.snapshot.snapshot import snapshot
from doorstone_standins.machine import Machine
from rehearsal.drive import Rehearsal

INTERVAL = timedelta(days=62)  # two monthly looks
BEGIN, END = date(2027, 1, 18), date(2027, 12, 18)


@dataclass(frozen=True, slots=True)
class Surprise:
    """One of them: what happens, to which device, on which day, and the kind under which it is to be due."""

    name: str
    device: str
    on: date
    kind: str
    happen: Callable[[Play], None]


@dataclass
class Play:
    """The rehearsed fleet, with what was noticed when."""

    folder: Path
    fleet: Rehearsal = field(init=False)
    noticed: dict[str, tuple[date, str]] = field(default_factory=dict)
    unheard: dict[str, date] = field(default_factory=dict)
    kits: dict[str, str] = field(default_factory=dict)
    day: date = BEGIN

    def __post_init__(self) -> None:
        self.fleet = Rehearsal(self.folder, "surprising", {one.device for one in SURPRISES if one.device})
        tarn = self.fleet.worlds["tarn"]
        late = {**tarn.published, "9.2": date(2027, 8, 1)}  # the sheet has 16 March
        self.fleet.worlds = {**self.fleet.worlds, "tarn": dataclasses.replace(tarn, published=late)}

    def context(self, hour: int = 17) -> Context:
        return self.fleet.context(self.day, hour)

    def run(self, tell: bool = False) -> Play:
        """Month by month: what happens, the readings, and a look at what is due."""
        self.fleet._open(BEGIN)
        month, waiting = 0, sorted(SURPRISES, key=lambda one: one.on)
        while self.day <= END:
            self.fleet._media(self.day)
            self.fleet._read(self.day, self._heard())
            for one in [one for one in waiting if one.on <= self.day]:
                waiting.remove(one)
                one.happen(self)
            self.fleet._read(self.day, self._heard(), 17)
            self._look()
            if tell:
                print(f"{self.day}: {len(self.noticed)} of {len(SURPRISES)} noticed", flush=True)
            month += 1
            self.day = add_months(BEGIN, month)
        self.fleet.database.close()
        return self

    def _heard(self) -> list[Machine]:
        return [m for name, m in self.fleet.machines.items() if self.day < self.unheard.get(name, date.max)]

    def _look(self) -> None:
        for item in due.due_list(self.context(19)):
            for one in SURPRISES:
                named = one.device in item.words if one.device else True
                if item.kind == one.kind and named and one.on <= self.day:
                    self.noticed.setdefault(one.name, (self.day, item.words))

    def misses(self) -> list[str]:
        """Every surprise that was not due within its interval."""
        found = []
        for one in SURPRISES:
            seen = self.noticed.get(one.name)
            if seen is None:
                found.append(f"{one.name} of {one.on}: never noticed")
            elif seen[0] > one.on + INTERVAL:
                found.append(f"{one.name} of {one.on}: noticed on {seen[0]} only")
        return found

    def table(self) -> Iterator[str]:
        """What happened, when it was noticed, and what the due list said to do."""
        yield f"{'happened':11} {'noticed':11} {'what':39} what the due list says"
        for one in sorted(SURPRISES, key=lambda one: one.on):
            seen, words = self.noticed.get(one.name, (None, "NOT NOTICED"))
            yield f"{one.on!s:11} {seen or '-'!s:11} {one.name:39} {words}"

    # ------------------------------------------------------------- what happens

    def tries(self, device: str, outcome: str, **more: object) -> None:
        """An attempt that somebody records in the evening."""
        at = datetime.combine(self.day, time(16))
        plain = NewAttempt(device, "", "9.1", "in-place", "everything", outcome, (), "", "", "set-up 1", at, at)
        attempts.record_attempt(self.context(), PETRA, replace(plain, **more))

    def carries(self, device: str) -> str:
        """Take a device to 9.1 by exception with a kit, as the runbook has it; gives the kit."""
        context = self.context(10)
        now = snapshot(context)
        ahead = now.forecast(device)
        assert ahead is not None
        reach = next(r for r in ahead.reaches if r.release == "9.1")
        kit = self.kits[device] = self.fleet._kit(context, now, device, "9.1", reach.route.value, reach.checks)
        folder = self.fleet._write(context, kit)
        target = self.fleet.machines[device]
        stick = self.fleet.sticks["tarn", "9.1", target.truth["language"]]
        code, said = self.fleet._by_kit(folder, target, stick, context.today())
        self.tries(device, said["outcome"], kit=kit)
        assert code == 0, said
        return kit


def _part_out(play: Play) -> None:
    play.carries("nbt-021")
    play.fleet.machines["nbt-021"].change(memory_mb=4096)


def _fix_fails(play: Play) -> None:
    """Recorded as done; the machine is as it was."""
    fixes_done.record_fix(
        play.context(11), PETRA, "nbt-007", NewFixResult("Switch the security chip on in firmware set-up")
    )


def _drift(play: Play) -> None:
    kit = play.carries("nbt-012")
    rows = [{"place": "system", "section": "setup/compat", "name": "accept", "state": "missing"}]
    followups.add_verification(play.context(), PETRA, kit, "nbt-012", {"kit": kit, "ok": False, "settings": rows})


def _silent(play: Play) -> None:
    play.unheard["nbt-045"] = play.day


def _by_hand(play: Play) -> None:
    play.fleet.machines["nbt-030"].change(release="9.1", by_waiver=True)


SURPRISES = (
    Surprise("a fix that failed", "nbt-007", date(2027, 2, 18), "fix-not-seen", _fix_fails),
    Surprise("a check that the sheet does not have", "nbt-015", date(2027, 2, 18), "refused",
             lambda play: play.tries("nbt-015", "refused", seen="The sound module is not ready.")),
    Surprise("its words match no requirement", "", date(2027, 2, 18), "failure-unmatched", lambda play: None),
    Surprise("a release that is late", "", date(2027, 3, 16), "release-late",
             lambda play: None),
    Surprise("a setting that drifted", "nbt-012", date(2027, 3, 18), "drift", _drift),
    Surprise("a check that turned out to be a floor", "nbt-058", date(2027, 4, 18), "floor-found",
             lambda play: play.tries("nbt-058", "failed-to-start")),
    Surprise("a part taken out", "nbt-021", date(2027, 4, 18), "uncovered", _part_out),
    Surprise("an override that ended early", "nbt-021", date(2027, 5, 18), "refused",
             lambda play: play.tries("nbt-021", "refused", refused_by=("processor-listed",), kit=play.kits["nbt-021"])),
    Surprise("a roll-back", "nbt-064", date(2027, 5, 18), "went-back",
             lambda play: play.tries("nbt-064", "rolled-back")),
    Surprise("a floor unmet at the release that runs", "nbt-030", date(2027, 6, 18), "floor-runs", _by_hand),
    Surprise("a device not heard from", "nbt-045", date(2027, 7, 18), "not-heard-from", _silent),
)  # fmt: skip


def play(folder: Path, tell: bool = False) -> Play:
    """Play them all."""
    return Play(folder).run(tell)
