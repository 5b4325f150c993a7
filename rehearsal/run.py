"""`make rehearse`: the demo's fleet through the years, in the world as the sheets have it and in one with surprises."""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from rehearsal.drive import Rehearsal


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("devices", nargs="*", help="only these devices; all if left out")
    parser.add_argument("--surprises", action="store_true", help="in a world that differs from the sheets")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        world = "surprising" if given.surprises else "true"
        done = Rehearsal(Path(folder), world, set(given.devices) or None).run()
        print("\n".join(done.summary()))
    sys.exit(1 if done.misses and not given.surprises else 0)


if __name__ == "__main__":
    main()
