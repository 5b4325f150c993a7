"""The resources of the API, in the job's order."""

from doorstone.service.operations import Operation
from doorstone.service.resources import (
    attempts,
    devices,
    exceptions,
    fleet,
    followups,
    forecast,
    kits,
    ledger,
    media,
    notifications,
    operations,
    people,
    platforms,
    readings,
    sorting,
)

OPERATIONS: tuple[Operation, ...] = tuple(operations.health.all) + tuple(
    operation
    for module in (
        people,
        platforms,
        readings,
        devices,
        sorting,
        fleet,
        exceptions,
        media,
        kits,
        attempts,
        followups,
        forecast,
        notifications,
        ledger,
        operations,
    )
    for operation in module.operations.all
)
