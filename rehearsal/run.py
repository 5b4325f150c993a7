"""`make rehearse`: the demo's fleet through the years, in the world as the sheets have it and in one with surprises."""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from rehearsal.drive import Rehearsal
from rehearsal.explain import differences, table, unexplained
from rehearsal.surprises import play


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("devices", nargs="*", help="only these devices; all if left out")
    parser.add_argument("--surprises", action="store_true", help="play what nobody foresaw, and see it noticed")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        if given.surprises:
            played = play(Path(folder) / "played", tell=True)
            fleet = Rehearsal(Path(folder) / "fleet", "surprising", set(given.devices) or None).run(tell=True)
            found = differences(fleet)
            faults = [*played.misses(), *unexplained(found)]
            print("\n".join([*played.table(), "", *table(found), *faults]))
            sys.exit(1 if faults else 0)
        done = Rehearsal(Path(folder), "true", set(given.devices) or None).run(tell=True)
        print("\n".join(done.summary()))
    sys.exit(1 if done.misses else 0)


if __name__ == "__main__":
    main()
