"""The wheel: built, installed into an empty environment, and run without Node or the source folder."""

from __future__ import annotations

import os
import subprocess
import sys
import venv
import zipfile
from pathlib import Path

import httpx
import pytest

from tests.running import free_port, stop

ROOT = Path(__file__).parent.parent


@pytest.mark.process
def test_the_wheel_holds_the_console_and_runs_without_node(tmp_path: Path) -> None:
    built = subprocess.run(
        [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", tmp_path, ROOT],
        capture_output=True,
        text=True,
        timeout=150,
    )
    assert built.returncode == 0, built.stdout + built.stderr
    wheel = next(tmp_path.glob("*.whl"))
    names = zipfile.ZipFile(wheel).namelist()
    assert "doorstone/service/pages/index.html" in names
    assert any(name.startswith("doorstone/service/pages/assets/") and name.endswith(".js") for name in names)
    assert "doorstone/store/migrations/0001_start.sql" in names
    assert "doorstone/demo/sheets/tarn.toml" in names
    assert "doorstone_standins/setup_program.py" in names

    # The dependencies of this environment are borrowed; the package itself comes from the wheel alone.
    venv.create(tmp_path / "venv")
    python = tmp_path / "venv" / "bin" / "python"
    package = tmp_path / "package"
    zipfile.ZipFile(wheel).extractall(package)
    borrowed = next(path for path in sys.path if path.endswith("site-packages"))
    environment = {"PATH": "/nowhere", "PYTHONPATH": f"{package}{os.pathsep}{borrowed}", "DOORSTONE_CONFIG": os.devnull}
    where = subprocess.run(
        [python, "-c", "import doorstone; print(doorstone.__file__)"], env=environment, capture_output=True, text=True
    )
    assert where.stdout.startswith(str(package))
    port = free_port()
    words = ["-m", "doorstone.cli.main", "serve", "--data", str(tmp_path / "data"), "--port", str(port)]
    process = subprocess.Popen([python, *words], env=environment, stderr=subprocess.DEVNULL, cwd=tmp_path)
    try:
        transport = httpx.HTTPTransport(retries=8)
        with httpx.Client(transport=transport, base_url=f"http://127.0.0.1:{port}") as client:
            assert client.get("/readyz").json()["status"] == "ready"
            page = client.get("/devices").text
            assert '<div id="root">' in page
            script = page.split('src="')[1].split('"')[0]
            assert client.get(script).headers["content-type"].startswith("text/javascript")
    finally:
        assert stop(process) == 0
