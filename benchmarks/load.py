"""Load over loopback: so many connections, each asking one page after the other; and the plain server to compare.

Run as a program it is the plain server: `python -m benchmarks.load PORT FOLDER` answers /N with the bytes of FOLDER/N.
"""

from __future__ import annotations

import asyncio
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

THREADS = 32
ROOT = Path(__file__).parent.parent


def percentile(values: Sequence[float], share: float) -> float:
    """The smallest value that at least this share of them does not exceed."""
    ordered = sorted(values)
    return ordered[max(0, -(-len(ordered) * int(share * 1000) // 1000) - 1)]


async def _connection(port: int, paths: Sequence[str], token: str, ends: float, taken: list[float]) -> None:
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    for path in paths:
        if time.perf_counter() > ends:
            break
        began = time.perf_counter()
        head = f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nAuthorization: Bearer {token}\r\n\r\n"
        writer.write(head.encode())
        status = await reader.readuntil(b"\r\n\r\n")
        if not status.startswith(b"HTTP/1.1 200"):
            raise RuntimeError(f"{path}: {status[:60]!r}")
        length = next(
            int(line.split(b":")[1]) for line in status.split(b"\r\n") if line.lower().startswith(b"content-length:")
        )
        await reader.readexactly(length)
        taken.append(time.perf_counter() - began)
    writer.close()


def ask(port: int, paths: Sequence[str], token: str = "", connections: int = 16, seconds: float = 30) -> list[float]:
    """Ask for every path once, spread over the connections; seconds from each request to the end of its answer."""

    async def run() -> list[float]:
        taken: list[float] = []
        ends = time.perf_counter() + seconds
        await asyncio.gather(
            *(_connection(port, paths[at::connections], token, ends, taken) for at in range(connections))
        )
        return taken

    return asyncio.run(run())


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


@contextmanager
def running(command: Sequence[str], port: int, env: dict[str, str] | None = None) -> Iterator[subprocess.Popen[bytes]]:
    """A server in a process of its own, once it answers on its port; ended at the end."""
    with subprocess.Popen(
        command, env={**os.environ, **(env or {})}, cwd=ROOT, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as process:
        try:
            _wait(port, process)
            yield process
        finally:
            process.terminate()
            process.wait(30)


def _wait(port: int, process: subprocess.Popen[bytes]) -> None:
    for _ in range(600):
        if process.poll() is not None:
            raise RuntimeError(f"the server ended with {process.returncode}")
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
        except OSError:
            time.sleep(0.05)
        else:
            return
    raise RuntimeError("the server does not answer")


@contextmanager
def service(folder: Path) -> Iterator[tuple[int, subprocess.Popen[bytes]]]:
    """Door Stone over a data folder; its port and process."""
    port = free_port()
    command = [sys.executable, "-m", "doorstone.cli.main", "serve", "--data", str(folder), "--port", str(port)]
    settings = {"DOORSTONE_AS_OF": "2027-01-18", "DOORSTONE_THREADS": str(THREADS)}
    with running(command, port, settings) as process:
        yield port, process


@contextmanager
def plain_server(folder: Path) -> Iterator[int]:
    """A bare Flask route on the same server, which answers /N with the bytes of the file N."""
    port = free_port()
    with running([sys.executable, "-m", "benchmarks.load", str(port), str(folder)], port):
        yield port


def _serve_plain(port: int, folder: Path) -> None:
    from flask import Flask, Response

    from doorstone.service.admission import LARGEST_BODY
    from doorstone.service.listener import Listener

    app = Flask("plain", static_folder=None)
    held = {path.name: path.read_bytes() for path in folder.iterdir()}

    @app.get("/<name>")
    def same(name: str) -> Response:
        return Response(held[name], content_type="application/json")

    Listener(app, "127.0.0.1", port, THREADS, LARGEST_BODY).run()


if __name__ == "__main__":
    _serve_plain(int(sys.argv[1]), Path(sys.argv[2]))
