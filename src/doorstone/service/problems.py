"""Problem documents (RFC 9457): every error that leaves the service, 404s, 405s and crashes included."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from flask import Response, request
from pydantic import ValidationError

from doorstone.api.common import ErrorEntry, Problem
from doorstone.work.context import errors

_KINDS: dict[type[errors.WorkError], tuple[int, str, str]] = {
    errors.BadInputError: (422, "bad-input", "The input cannot be used"),
    errors.MissingError: (404, "missing", "There is no such thing"),
    errors.RefusedError: (409, "refused", "A rule forbids it"),
    errors.StaleEditError: (412, "stale-edit", "Somebody else changed it"),
    errors.NoRoomError: (507, "disk-full", "The disk is full"),
    errors.ReusedKeyError: (422, "reused-key", "The Idempotency-Key was used before"),
}

TITLES = {
    400: "The request cannot be read",
    401: "Nobody is signed in",
    403: "The role does not allow it",
    404: "There is no such thing",
    405: "The method does not fit",
    413: "The request is too large",
    415: "The media type does not fit",
    429: "Too many tries",
    428: "If-Match is missing",
    500: "The service failed",
    503: "The service cannot do that now",
    507: "The disk is full",
}


class ServiceProblemError(Exception):
    """A problem found at the edge, before any use case."""

    def __init__(
        self,
        status: int,
        slug: str,
        detail: str,
        hint: str,
        errors: Sequence[ErrorEntry] = (),
        retry_after: int = 0,
    ) -> None:
        super().__init__(detail)
        self.retry_after = retry_after
        self.status, self.slug, self.detail, self.hint = status, slug, detail, hint
        self.errors = list(errors)


def document(
    status: int,
    slug: str,
    title: str,
    detail: str,
    hint: str = "",
    errors: Sequence[ErrorEntry] = (),
    path: str | None = None,
) -> Response:
    """A problem document; `path` is the path of the request, for use outside of a request."""
    problem = Problem(
        type=f"urn:door-stone:problem:{slug}",
        title=title,
        status=status,
        detail=detail,
        instance=request.path if path is None else path,
        hint=hint,
        errors=list(errors),
    )
    return Response(problem.model_dump_json(), status, content_type="application/problem+json")


def of_work(error: errors.WorkError) -> Response:
    status, slug, title = _KINDS[type(error)]
    errors = [ErrorEntry.model_validate(entry) for entry in error.errors]
    return document(status, slug, title, error.detail, error.hint, errors)


def of_service(error: ServiceProblemError, path: str | None = None) -> Response:
    response = document(error.status, error.slug, TITLES[error.status], error.detail, error.hint, error.errors, path)
    if error.status == 401:
        response.headers["WWW-Authenticate"] = 'Bearer realm="doorstone"'
    if error.retry_after:
        response.headers["Retry-After"] = str(error.retry_after)
    return response


def no_room(folder: Path, path: str | None = None) -> Response:
    """The answer to a write that the disk has no room for."""
    detail = f"The disk of {folder} is full; nothing was written"
    hint = "Free some space there and try again. Pages can be read meanwhile, and imports that were accepted go on"
    return document(507, "disk-full", TITLES[507], detail, hint, path=path)


def of_validation(error: ValidationError, where: str) -> ServiceProblemError:
    """What pydantic found, place by place."""
    errors = [
        ErrorEntry(
            pointer=".".join(str(step) for step in item["loc"]) or where,
            detail=item["msg"],
            hint="Remove it"
            if item["type"] == "extra_forbidden"
            else "See the OpenAPI document for what may stand here",
        )
        for item in error.errors(include_url=False, include_input=False)
    ]
    return ServiceProblemError(400, "bad-request", f"The {where} cannot be read", "Correct each place", errors)
