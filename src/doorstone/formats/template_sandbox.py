"""Fills a sheet's templates, in a sandbox, in a process of its own with little time, memory and room to write.

In: a template and its values. Out: the text, or `TemplateError` with the line and the hint.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Mapping
from typing import Any

SECONDS = 5
MEMORY = 256 * 2**20
MOST = 1_000_000


class TemplateError(ValueError):
    """A template that cannot be filled, in words."""


def fill_template(text: str, values: Mapping[str, Any], seconds: int = SECONDS) -> str:
    """Fill a template. Raises `TemplateError`: an error in it, over `seconds`, over 256 MiB, over 1 MB of text."""
    asked = json.dumps({"text": text, "values": values, "seconds": seconds})
    try:
        done = subprocess.run(
            [sys.executable, "-m", "doorstone.formats.template_sandbox"], input=asked, capture_output=True, text=True,
            timeout=seconds + 5,
        )  # fmt: skip
    except subprocess.TimeoutExpired as error:
        raise TemplateError(f"The template took longer than {seconds} seconds") from error
    if done.returncode < 0:
        raise TemplateError(f"The template took longer than {seconds} seconds")
    try:
        answer = json.loads(done.stdout)
    except ValueError as error:
        raise TemplateError("The template needs more memory than it may have") from error
    if "error" in answer:
        raise TemplateError(str(answer["error"]))
    return str(answer["text"])


def _fill(text: str, values: Mapping[str, Any], seconds: int) -> dict[str, str]:
    import resource

    from jinja2 import StrictUndefined, TemplateError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    world = ImmutableSandboxedEnvironment(undefined=StrictUndefined, keep_trailing_newline=True)
    parts, size = [], 0
    try:
        for part in world.from_string(text).generate(**values):
            size += len(part)
            if size > MOST:
                return {"error": f"The template writes more than {MOST:,} letters"}
            parts.append(part)
    except MemoryError:
        return {"error": "The template needs more memory than it may have"}
    except TemplateError as error:
        line = getattr(error, "lineno", None)
        return {"error": f"The template{f', line {line}' if line else ''}: {error.message}"}
    except Exception as error:
        return {"error": f"The template: {error}"}
    return {"text": "".join(parts)}


if __name__ == "__main__":
    asked = json.load(sys.stdin)
    json.dump(_fill(asked["text"], asked["values"], asked["seconds"]), sys.stdout)
