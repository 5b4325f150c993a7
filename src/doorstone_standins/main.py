"""`doorstone-standin`: make a machine or media, assess it, run set-up on it, serve updates. For trying things out."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from doorstone_standins import assessor, machine, media, setup_program


def run() -> None:
    words = sys.argv[1:]
    if words[:1] == ["set-up"]:
        sys.exit(setup_program.main(words[1:]))
    parser = argparse.ArgumentParser(prog="doorstone-standin", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)
    new = commands.add_parser("machine", help="make a machine in a new folder")
    new.add_argument("folder", type=Path)
    stick = commands.add_parser("media", help="make set-up media in a new folder")
    stick.add_argument("folder", type=Path)
    stick.add_argument("--release", required=True)
    stick.add_argument("--platform", default="tarn")
    stick.add_argument("--language", default="en")
    assess = commands.add_parser("assess", help="print an assessor's report of a machine")
    assess.add_argument("folder", type=Path)
    assess.add_argument("--at", required=True, help="time of the reading, such as 2027-01-18T08:00:00")
    commands.add_parser("set-up", help="run set-up: --machine DIR --media DIR --release R and its arguments")
    updates = commands.add_parser("updates", help="serve updates for a folder of machines")
    updates.add_argument("folder", type=Path)
    updates.add_argument("--port", type=int, default=8650)
    given = parser.parse_args(words)
    if given.command == "machine":
        machine.create(given.folder, name=given.folder.name)
        print(f"made {given.folder}; its truth is in {given.folder / 'machine.json'}")
    elif given.command == "media":
        media.create(given.folder, given.release, platform=given.platform, language=given.language)
        print(f"made {given.folder}, with release {given.release} in {given.language} on it")
    elif given.command == "assess":
        print(assessor.report(machine.Machine(given.folder), given.at), end="")
    else:
        from doorstone_standins import update_service  # a server takes long to load, and set-up needs none

        print(f"http://127.0.0.1:{given.port}/offers/MACHINE?on=DAY", flush=True)
        update_service.make_server(given.folder, given.port).serve_forever()


if __name__ == "__main__":
    run()
