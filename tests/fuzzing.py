"""Asks a running service what its OpenAPI document allows, and what it does not, and compares the answers with it.

`python -m tests.fuzzing SECONDS SEED` works on a copy of the demo until the time is over, and says what it found.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import hypothesis
import schemathesis
from hypothesis import HealthCheck, Phase
from schemathesis.checks import not_a_server_error
from schemathesis.core.failures import Failure, FailureGroup
from schemathesis.generation import GenerationMode
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from doorstone.demo.seed import seed
from tests.running import Running, running

CHECKS = (not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance)
LEFT_OUT = {"import_events", "set_password", "change_my_password", "change_person", "revoke_token", "sign_out"}
"""What waits for ten minutes, and what would end the caller's own rights."""


@dataclass
class Found:
    """How many calls were made, with which statuses, and what did not fit."""

    calls: int = 0
    statuses: Counter[int] = field(default_factory=Counter)
    faults: dict[str, str] = field(default_factory=dict)


def fuzz(service: Running, seconds: float, seed_: int, each: int = 10, least: int = 0) -> Found:
    """Ask every operation in turn, some cases each, until the time is over and at least so many calls are made."""
    document = schemathesis.openapi.from_url(f"{service.address}/api/v1/openapi.json")
    document.config.generation.update(modes=[GenerationMode.POSITIVE, GenerationMode.NEGATIVE])
    found, until, round_ = Found(), time.monotonic() + seconds, 0
    headers = {"Authorization": f"Bearer {service.tokens['wilhelmina']}"}

    def goes_on() -> bool:
        return time.monotonic() < until or found.calls < least

    while goes_on():
        for result in document.get_all_operations():
            operation = result.ok()
            if operation.definition.raw.get("operationId") not in LEFT_OUT and goes_on():
                _ask(operation, headers, found, each, seed_ + round_)
        round_ += 1
    return found


def _ask(operation: Any, headers: dict[str, str], found: Found, each: int, seed_: int) -> None:
    @hypothesis.seed(seed_)
    @hypothesis.settings(
        max_examples=each,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @hypothesis.given(case=operation.as_strategy())
    def ask(case: Any) -> None:
        response = case.call(headers=headers, timeout=60)
        found.calls += 1
        found.statuses[response.status_code] += 1
        try:
            case.validate_response(response, checks=CHECKS)
        except FailureGroup as group:
            for failure in group.exceptions:
                _keep(found, operation, case, failure, response)
        except Failure as failure:
            _keep(found, operation, case, failure, response)

    ask()


def _keep(found: Found, operation: Any, case: Any, failure: Any, response: Any) -> None:
    title = f"{operation.label}: {getattr(failure, 'title', type(failure).__name__)}, {response.status_code}"
    message = str(getattr(failure, "message", failure))[:400]
    found.faults.setdefault(title, f"{message} | {case.as_curl_command()[:400]} | {response.text[:300]}")


def main(seconds: float, seed_: int) -> int:
    with tempfile.TemporaryDirectory() as scratch:
        seed(Path(scratch) / "data")
        with running(Path(scratch) / "data") as service:
            found = fuzz(service, seconds, seed_, each=40)
    print(f"{found.calls:,} calls in {seconds:.0f} s, seed {seed_}; statuses {dict(sorted(found.statuses.items()))}")
    for title, words in found.faults.items():
        print(f"{title}\n    {words}")
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())))
