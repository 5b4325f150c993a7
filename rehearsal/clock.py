"""The clock of stand-in machines: scripts of kits ask `date`, and get the day that is being played."""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import date
from pathlib import Path

DAY = "STANDIN_DAY"
_DATE = f"""#!/bin/sh
# The day of the stand-in machine, where one is played.
if [ "$*" = "+%Y%m%d" ] && [ -n "${{{DAY}:-}}" ]; then printf '%s\\n' "${DAY}"; exit; fi
exec /bin/date "$@"
"""


def environment(folder: Path, day: date) -> Mapping[str, str]:
    """The environment of a program that runs on this day; `date` is put into the folder."""
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / "date"
    if not file.exists():
        file.write_text(_DATE)
        file.chmod(0o755)
    path = os.environ["PATH"]
    if not path.startswith(f"{folder}{os.pathsep}"):
        path = f"{folder}{os.pathsep}{path}"
    return {**os.environ, "PATH": path, DAY: day.strftime("%Y%m%d")}
