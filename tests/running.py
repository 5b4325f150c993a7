"""Starting the real things for tests: the service on loopback, Chromium, the command line."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

from doorstone.demo.seed import PASSWORD, seed

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
CHROMIUM_FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def start_service(data: Path, *, port: int | None = None, **settings: str) -> tuple[subprocess.Popen[bytes], str]:
    """Start `doorstone serve` on a free port and wait until it is ready."""
    port = port or free_port()
    environment = os.environ | {"DOORSTONE_AS_OF": "2027-01-18", "DOORSTONE_CONFIG": os.devnull} | settings
    with (data.parent / f"{data.name}.log").open("ab") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "doorstone.cli.main", "serve", "--data", str(data), "--port", str(port)],
            env=environment,
            stderr=log,
        )
    address = f"http://127.0.0.1:{port}"
    for _ in range(150):
        try:
            if httpx.get(f"{address}/readyz").status_code == 200:
                return process, address
        except httpx.TransportError:
            time.sleep(0.1)
    process.kill()
    raise RuntimeError("the service did not become ready")


def stop(process: subprocess.Popen[bytes]) -> int:
    process.terminate()
    return process.wait(30)


@contextmanager
def demo_service(folder: Path) -> Iterator[str]:
    """The service over freshly seeded demo data; gives its address."""
    data = folder / "data"
    seed(data)
    process, address = start_service(data)
    try:
        yield address
    finally:
        stop(process)


def cli_environment(address: str, home: Path) -> dict[str, str]:
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    mine = {"PATH": path, "HOME": str(home), "DOORSTONE_SERVER": address, "DOORSTONE_PASSWORD": PASSWORD}
    return os.environ | mine | {"COLUMNS": "100", "TERM": "dumb"}
