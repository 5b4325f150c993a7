"""The client library of Door Stone.

    from doorstone.client import Client

    with Client("http://127.0.0.1:8640", token="ds_...") as client:
        for device in client.devices("tarn", release="9.1", state="needs-exception"):
            print(device.id, device.marks)

Errors are one tree:

    ClientError
      UnreachableError      no answer: refused, timed out, cut off
      ProblemError          the service answered with a problem document
        NotSignedInError    401
        RoleError           403
        MissingError        404
        RefusedError        409
        StaleEditError      412
        BadInputError       400, 413, 415, 422, 428
        ServiceError        500 and above
"""

from doorstone.client.client import Client
from doorstone.client.errors import (
    BadInputError,
    ClientError,
    MissingError,
    NotSignedInError,
    ProblemError,
    RefusedError,
    RoleError,
    ServiceError,
    StaleEditError,
    UnreachableError,
)

__all__ = [
    "BadInputError",
    "Client",
    "ClientError",
    "MissingError",
    "NotSignedInError",
    "ProblemError",
    "RefusedError",
    "RoleError",
    "ServiceError",
    "StaleEditError",
    "UnreachableError",
]
