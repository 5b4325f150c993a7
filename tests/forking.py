"""Commands for scripts that call them a hundred times: one process loads them, each call is a fork of that one.

A call keeps what makes it a command of its own: arguments, environment, folder, standard input and output, exit code.
"""

from __future__ import annotations

import gc
import json
import os
import signal
import socket
import subprocess
import sys
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import Any

from typer.main import get_command

from doorstone.api.common import ApiModel, RequestModel
from doorstone.cli.main import app
from doorstone_standins.main import run as standin

SHIM = """#!{python} -IS
import json, os, socket, sys
with socket.socket(socket.AF_UNIX) as call:
    call.connect({address!r})
    told = json.dumps([sys.argv[1:], os.getcwd(), dict(os.environ)]).encode()
    socket.send_fds(call, [len(told).to_bytes(4, "big")], [0, 1, 2])
    call.sendall(told)
    sys.exit(int(call.recv(4) or b"70"))
"""


@contextmanager
def forked_command(folder: Path, name: str = "doorstone") -> Iterator[Path]:
    """A folder for the PATH with a command in it that starts at once: `doorstone` or `doorstone-standin`."""
    folder.mkdir()
    address, command = folder / "calls", folder / name
    command.write_text(SHIM.format(python=sys.executable, address=str(address)))
    command.chmod(0o755)
    server = subprocess.Popen([sys.executable, "-m", "tests.forking", name, str(address)], stdout=subprocess.PIPE)
    assert server.stdout is not None
    try:
        assert server.stdout.readline() == b"ready\n"
        yield folder
    finally:
        server.terminate()
        server.wait(60)


def _serve(name: str, address: str) -> None:
    command = standin if name == "doorstone-standin" else partial(_loaded(), prog_name=name)
    gc.freeze()  # no fork looks for cycles in what all share
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(address)
        listener.listen(8)
        print("ready", flush=True)
        while True:
            call, _ = listener.accept()
            if os.fork() == 0:
                listener.close()
                _answer(call, name, command)
            call.close()


def _loaded() -> Any:
    """The command line with all that any command of it loads."""
    command: Any = get_command(app)
    for name in command.places:
        command.get_command(None, name)
    for module in ("doorstone.client", "httpcore", "encodings.idna"):
        import_module(module)
    for shape in (ApiModel, RequestModel):
        for one in shape.__subclasses__():
            one.model_rebuild()
    return command


def _answer(call: socket.socket, name: str, command: Callable[[], object]) -> None:
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    size, streams, _, _ = socket.recv_fds(call, 4, 3)
    told = b""
    while len(told) < int.from_bytes(size, "big"):
        told += call.recv(65536)
    words, folder, environment = json.loads(told)
    for at, stream in enumerate(streams):
        os.dup2(stream, at)
        os.close(stream)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = [name, *words]
    code = 0
    try:
        command()
    except SystemExit as left:
        code = int(left.code or 0)
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    call.sendall(str(code).encode())
    os._exit(code)


if __name__ == "__main__":
    _serve(*sys.argv[1:])
