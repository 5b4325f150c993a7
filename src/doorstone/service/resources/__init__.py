"""The resources of the API, in the job's order."""

from doorstone.service.operations import Operation
from doorstone.service.resources import (
    attempts,
    devices,
    exceptions,
    forecast,
    health,
    kits,
    ledger,
    people,
    sheets,
    sorting,
)

OPERATIONS: tuple[Operation, ...] = tuple(
    operation
    for module in (health, people, sheets, devices, sorting, exceptions, kits, attempts, forecast, ledger)
    for operation in module.operations.all
)
