"""The resources of the API, in the job's order."""

from doorstone.service.operations import Operation
from doorstone.service.resources import (
    after,
    attempts,
    devices,
    disputes,
    exceptions,
    fleet,
    forecast,
    health,
    imports,
    kits,
    ledger,
    media,
    outlook,
    people,
    sheets,
    sorting,
    telling,
)

OPERATIONS: tuple[Operation, ...] = tuple(
    operation
    for module in (
        health,
        people,
        sheets,
        imports,
        devices,
        disputes,
        sorting,
        fleet,
        exceptions,
        media,
        kits,
        attempts,
        after,
        forecast,
        outlook,
        telling,
        ledger,
    )
    for operation in module.operations.all
)
