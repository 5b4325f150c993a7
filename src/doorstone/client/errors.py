"""The client's errors. Each carries the problem document that the service sent."""

from __future__ import annotations

import httpx
from pydantic import ValidationError

from doorstone.api.common import Problem


class ClientError(Exception):
    """Anything that went wrong with a call."""


class UnreachableError(ClientError):
    """No answer came."""


class ProblemError(ClientError):
    """The service answered with a problem document, kept in `problem`."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(f"{problem.detail}. {problem.hint}".strip())
        self.problem = problem


class NotSignedInError(ProblemError):
    pass


class RoleError(ProblemError):
    pass


class MissingError(ProblemError):
    pass


class RefusedError(ProblemError):
    pass


class StaleEditError(ProblemError):
    pass


class BadInputError(ProblemError):
    pass


class ServiceError(ProblemError):
    pass


_KINDS: dict[int, type[ProblemError]] = {
    401: NotSignedInError,
    403: RoleError,
    404: MissingError,
    409: RefusedError,
    412: StaleEditError,
}


def problem_of(response: httpx.Response) -> ProblemError:
    """The error for an answer of 400 or above."""
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        problem = Problem(
            type="about:blank",
            title=response.reason_phrase,
            status=response.status_code,
            detail=f"The address answered {response.status_code} without saying why",
            hint="Check that it is Door Stone's address",
        )
    if response.status_code >= 500:
        return ServiceError(problem)
    return _KINDS.get(response.status_code, BadInputError)(problem)
