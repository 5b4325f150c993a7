"""Runs the real things for tests: the service in a thread or as a process, and the command line."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import Path
from typing import Any

import httpx
from typer.main import get_command
from typer.testing import CliRunner

from doorstone.cli.main import app as command_line
from doorstone.demo.seed import PASSWORD
from doorstone.service.config import Config
from doorstone.service.serve import Service
from doorstone.work.context.actor import Actor
from doorstone.work.people import people

ROOT = Path(__file__).parent.parent
SHEET = ROOT / "src" / "doorstone" / "demo" / "sheets" / "tarn.toml"
TODAY = date(2027, 1, 18)
ROLES = {"odile": "viewer", "petra": "technician", "anselm": "approver", "wilhelmina": "administrator"}


# ------------------------------------------------------- the service, in a thread


@dataclass(frozen=True, slots=True)
class Running:
    """A service on a real socket, its data folder, and a token for each of its four people."""

    address: str
    data: Path
    tokens: dict[str, str]


@contextmanager
def running(data: Path, **settings: object) -> Iterator[Running]:
    """The service over a data folder with the demo's people, in a thread of this process."""
    config = Config.model_validate({"data": data, "port": 0, "as_of": TODAY, "threads": 8, **settings})
    service = Service(config, look_every=0.02)
    tokens = {
        name: people.issue_token(service.context, Actor(name, role, "test"), "test", role, 90, session=True).secret
        or ""
        for name, role in ROLES.items()
    }
    thread = threading.Thread(target=service.run, name="service")
    thread.start()
    try:
        yield Running(service.address, data, tokens)
    finally:
        service.stop()
        thread.join(120)


# ------------------------------------------------------ the service, as a process


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def start_service(
    data: Path, *, port: int | None = None, ready: str = "/readyz", **settings: str
) -> tuple[subprocess.Popen[bytes], str]:
    """Start `doorstone serve` on a free port and wait until it is ready, or answers at another path."""
    port = port or free_port()
    environment = os.environ | {"DOORSTONE_AS_OF": TODAY.isoformat()} | settings
    with (data.parent / f"{data.name}.log").open("ab") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "doorstone.cli.main", "serve", "--data", str(data), "--port", str(port)],
            env=environment,
            stderr=log,
        )
    address = f"http://127.0.0.1:{port}"
    for _ in range(2400):
        try:
            if httpx.get(f"{address}{ready}").status_code == 200:
                return process, address
        except httpx.TransportError:
            time.sleep(0.05)
        if process.poll() is not None:
            break
    process.kill()
    raise RuntimeError("the service did not become ready")


def stop(process: subprocess.Popen[bytes]) -> int:
    process.terminate()
    return process.wait(120)


# ------------------------------------------------------------- the command line


def cli_environment(address: str, home: Path) -> dict[str, str]:
    """What the command line reads from its environment."""
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    mine = {"PATH": path, "HOME": str(home), "DOORSTONE_SERVER": address, "DOORSTONE_PASSWORD": PASSWORD}
    return mine | {"COLUMNS": "100", "TERM": "dumb"}


Done = subprocess.CompletedProcess[str]
Run = Callable[..., Done]


@cache
def _command() -> Any:
    return get_command(command_line)


def doorstone(words: tuple[object, ...], environment: dict[str, str], stdin: str = "") -> Done:
    """Call the command line in this process; what it prints and its exit code are those of the command."""
    listed, code = list(map(str, words)), 0
    with CliRunner().isolation(input=stdin, env=environment) as (out, err, _):
        try:
            _command().main(args=listed, prog_name="doorstone")
        except SystemExit as left:
            code = int(left.code or 0)
        sys.stdout.flush()
        sys.stderr.flush()
        return Done(["doorstone", *listed], code, out.getvalue().decode(), err.getvalue().decode())


def command_of(service: Running, home: Path) -> Run:
    """The command line of a service: `run("device", "list", by="petra", COLUMNS="80", stdin="...")`."""

    def call(*words: object, by: str = "", stdin: str = "", **more: str) -> Done:
        environment = cli_environment(service.address, home) | {"DOORSTONE_TOKEN": service.tokens.get(by, "")} | more
        return doorstone(words, environment, stdin)

    return call


def copy_of(data: Path, into: Path) -> Path:
    """A copy of a data folder that nobody has open."""
    shutil.copytree(data, into)
    return into


def data(done: Done) -> Any:
    """What a command printed as JSON, once it went well."""
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)
