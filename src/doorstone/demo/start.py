"""`make demo`: seeds the demo once, starts the service, and says where it is and who can sign in."""

from __future__ import annotations

import argparse
import socket
import sys
from datetime import date
from decimal import Decimal
from pathlib import Path

from doorstone.demo.fleet import TODAY
from doorstone.demo.seed import PASSWORD, PEOPLE, seed_once
from doorstone.service.config import Config
from doorstone.service.serve import serve


def _day(text: str) -> date:
    """A day on which the demo can start: its records end on the demo's own day, so no earlier one."""
    try:
        day = date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"`{text}` is not a day. Write it as {TODAY}.") from None
    if day < TODAY:
        raise argparse.ArgumentTypeError(
            f"{day} is before {TODAY}, the last day of the demo's records. Choose a later day."
        )
    return day


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, required=True)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--as-of", type=_day, default=TODAY, help=f"start on this day, {TODAY} or later")
    given = parser.parse_args()
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", given.port))
        except OSError:
            sys.exit(f"Port {given.port} is busy. Choose another: make demo PORT={given.port + 1}")
    new = seed_once(given.data)
    print(f"\nDoor Stone, Northmere Botanic Trust, {given.as_of}" + ("" if new else " (data kept from last time)"))
    print(f"\n  http://127.0.0.1:{given.port}\n")
    for name, display, role in PEOPLE:
        print(f"  {name:<12} {role:<14} {display}")
    print(f"\n  password of all four: {PASSWORD}")
    print(f"  command line: export DOORSTONE_SERVER=http://127.0.0.1:{given.port}")
    print("                .venv/bin/doorstone sign-in petra")
    print("\n  Ctrl-C stops it. 'make clean' forgets the data.\n", flush=True)
    prices = {date(2027, 4, 1): Decimal("655.00"), date(2028, 1, 1): Decimal("690.00")}
    config = Config(data=given.data, port=given.port, as_of=given.as_of, cost_replacement_prices=prices)
    serve(config, quiet=True)


if __name__ == "__main__":
    main()
