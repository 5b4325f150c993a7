"""The app factory: binds operations to routes, with access, validation, receipts, ETags and problems around."""

from __future__ import annotations

import hashlib
import json
import re
import time
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, nullcontext
from functools import cache
from typing import TYPE_CHECKING, Any, BinaryIO, cast, get_origin
from urllib.parse import urlencode

import structlog
from flask import Flask, Response, request
from msgspec.structs import replace
from pydantic import BaseModel, ValidationError
from werkzeug.exceptions import HTTPException
from werkzeug.middleware.proxy_fix import ProxyFix

from doorstone.service import auth, problems
from doorstone.service.admission import LARGEST_BODY, LARGEST_UPLOAD
from doorstone.service.auth_settings import AuthSettings
from doorstone.service.console import bind_console
from doorstone.service.import_worker import ImportWorker
from doorstone.service.oidc import bind_provider
from doorstone.service.openapi import openapi
from doorstone.service.operations import DRY_IMPORTS, LARGE, Answer, Call, Operation
from doorstone.service.problems import ServiceProblemError
from doorstone.service.resources import OPERATIONS
from doorstone.store.database import has_no_room
from doorstone.store.devices.profiles import Stamp
from doorstone.store.ledger import LedgerBrokenError
from doorstone.work.context.actor import Actor, Receipt
from doorstone.work.context.context import Context
from doorstone.work.context.errors import WorkError
from doorstone.work.snapshot import names

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

API = "/api/v1"
_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self';"
    " connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_HEADERS = [
    ("X-Content-Type-Options", "nosniff"),
    ("Referrer-Policy", "no-referrer"),
    ("X-Frame-Options", "DENY"),
    ("Cross-Origin-Opener-Policy", "same-origin"),
]
_WITH_POLICY = [*_HEADERS, ("Content-Security-Policy", _POLICY)]
_ACTOR = "doorstone.actor"
_COMMITS = "doorstone.commits"
"""How many transactions the thread had committed before the call."""
log = structlog.get_logger("doorstone.service")


def create_app(
    context: Context,
    secret_key: bytes,
    *,
    https: bool = False,
    jobs: ImportWorker | None = None,
    settings: AuthSettings | None = None,
    proxies: int = 0,
) -> Flask:
    """The WSGI application over a context. `https` marks the session cookie Secure; `jobs` are its own if not given.

    `proxies` is the number of proxies in front of the service that are believed about a caller's address and protocol.
    `settings` says how long sessions last, how often a sign-in may fail, and which identity provider is used.
    """
    jobs = jobs or ImportWorker(context)
    settings = settings or AuthSettings()
    app = Flask("doorstone", static_folder=None)
    app.session_interface = auth.SessionCookies()
    app.config.update(
        SECRET_KEY=secret_key,
        SESSION_COOKIE_NAME="doorstone",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_SECURE=https,
        PERMANENT_SESSION_LIFETIME=settings.session,
        MAX_CONTENT_LENGTH=LARGEST_BODY,
    )
    app.extensions["doorstone.auth_settings"] = settings
    app.wsgi_app = _around(app.wsgi_app)  # type: ignore[assignment,method-assign]
    if proxies:
        app.wsgi_app = ProxyFix(app.wsgi_app, proxies, proxies, proxies)  # type: ignore[method-assign]
    bind_provider(app, context, settings)
    app.extensions["doorstone.operations"] = OPERATIONS
    for operation in OPERATIONS:
        path = operation.path if operation.tag == "health" else API + operation.path
        app.add_url_rule(path, operation.name, _view(context, jobs, operation), methods=[operation.method])
    app.add_url_rule(f"{API}/openapi.json", "openapi", _document)
    bind_console(app)
    _bind_problems(app, context)
    return app


def _document() -> Response:
    return Response(api_document_bytes(), content_type="application/json")


@cache
def api_document_bytes() -> bytes:
    """The OpenAPI document as bytes, made at the first request for it."""
    return json.dumps(api_document(), indent=1).encode()


@cache
def api_document() -> dict[str, Any]:
    """The OpenAPI document with the paths as they are served; made once, and nobody changes it."""
    document = openapi(OPERATIONS)
    health = {o.path for o in OPERATIONS if o.tag == "health"}
    document["paths"] = {(p if p in health else API + p): item for p, item in document["paths"].items()}
    return document


def _view(context: Context, jobs: ImportWorker, operation: Operation) -> Callable[..., Response]:
    def view(**path: str) -> Response:
        request.environ[_COMMITS] = context.database.commits
        with context.one_call():
            return answer(path)

    def answer(path: dict[str, str]) -> Response:
        stamp = context.stamp() if operation.roles else None
        actor = auth.authenticate(context, stamp) if stamp else None
        auth.require_role(operation, actor)
        request.environ[_ACTOR] = actor.name if actor else None
        if actor is not None:
            path = names.in_path(context, path)
        if operation.cacheable and stamp:
            with context.database.only_reading():
                return _response(operation, _steady(context, operation, actor, path, stamp))
        query = _query(operation)
        body = _body(operation)
        if actor is not None:
            query, body = _as_on_record(context, query), _as_on_record(context, body)
            _check_filters(context, operation, query, body)
        if actor is not None and operation.creates:
            actor = _with_receipt(actor, operation, body)
        file: BinaryIO | None = None
        if operation.upload:
            request.max_content_length = LARGEST_UPLOAD
            file = cast(BinaryIO, request.stream)
        dry = _dry_run(operation)
        if dry and operation.name in DRY_IMPORTS and body is not None:
            body = body.model_copy(update={"dry": True})
        call = Call(context, actor, path, query, body, _version(operation), jobs, file, dry)
        undone = dry and not operation.reads and operation.name not in DRY_IMPORTS
        with _lane(context, operation), context.database.undone() if undone else nullcontext():
            found = operation.handler(auth.at_sites(operation, call))
        response = _response(operation, found if isinstance(found, Answer) else Answer(found))
        if undone and response.status_code == 201:
            response.status_code = 200
        return response

    return view


def _dry_run(operation: Operation) -> bool:
    """Whether the call is a dry run: every check is made, the answer says what would happen, nothing is kept."""
    word = request.args.get("dry_run", "false")
    if word not in ("true", "false"):
        raise ServiceProblemError(400, "bad-request", f"{word!r} is no value of dry_run", "Give true or false")
    if word == "true" and not operation.rehearsed and operation.method != "GET":
        raise ServiceProblemError(400, "bad-request", f"{operation.summary}: no dry run", "Leave dry_run out")
    return word == "true" and operation.rehearsed


def _lane(context: Context, operation: Operation) -> AbstractContextManager[Any]:
    """How the call goes: reads write nothing, writes go before pages, an upload writes bit by bit."""
    if operation.reads:
        return context.database.only_reading()
    return nullcontext() if operation.upload else context.write_priority.writing()


def _steady(context: Context, operation: Operation, actor: Actor | None, path: dict[str, str], stamp: Stamp) -> Answer:
    """The answer as bytes, from one snapshot of the records. It is made once for as long as what it rests on is
    unchanged.
    """

    def make() -> Answer:
        query = _as_on_record(context, _query(operation))
        _check_filters(context, operation, query, None)
        call = Call(context, actor, path, query, None)
        with context.write_priority.paging(), context.database.read():
            found = operation.handler(call)
            answer = found if isinstance(found, Answer) else Answer(found)
            assert isinstance(answer.body, BaseModel)
            data = answer.body.model_dump_json().encode()
        return replace(answer, body=data, digest=hashlib.sha256(data).hexdigest()[:32])

    asked = (*path.values(), request.query_string)
    rests_on = (stamp.ledger, stamp.devices, stamp.readings, context.today())
    if operation.name in LARGE:  # only the last one is kept
        return context.cached(("answer", operation.name), (*rests_on, asked), make)
    return context.cached(("answer", operation.name, *asked), rests_on, make)


def _as_on_record(context: Context, given: BaseModel | None) -> BaseModel | None:
    """The request, with each id spelt as on record."""
    if given is None:
        return None
    changed = names.given(context, {name: getattr(given, name) for name in given.model_fields_set})
    return given.model_copy(update=changed) if changed else given


def _check_filters(context: Context, operation: Operation, query: BaseModel | None, body: BaseModel | None) -> None:
    """Refuse values of filters that nothing on record has: an empty answer would hide the mistake."""
    if query is not None and operation.method == "GET":
        names.check_known(context, {name: getattr(query, name) for name in query.model_fields_set})
    where = getattr(body, "where", None)
    if isinstance(where, BaseModel):
        names.check_known(context, {name: getattr(where, name) for name in where.model_fields_set})


def _query(operation: Operation) -> BaseModel | None:
    if operation.query is None:
        return None
    fields = operation.query.model_fields
    many = {name for name, field in fields.items() if get_origin(field.annotation) is list}
    given: dict[str, Any] = {}
    for name, values in request.args.lists():
        if len(values) > 1 and name not in many:
            detail = f"The parameter {name} is given {len(values)} times"
            raise ServiceProblemError(400, "bad-request", detail, "Give one value, or call once for each value")
        given[name] = values if name in many else values[0]
    if operation.rehearsed:
        given.pop("dry_run", None)
    try:
        return operation.query.model_validate(given)
    except ValidationError as error:
        raise problems.of_validation(error, "query") from error


def _body(operation: Operation) -> BaseModel | None:
    if operation.body is None:
        return None
    if not request.get_data() and not any(field.is_required() for field in operation.body.model_fields.values()):
        return operation.body()
    if request.mimetype != "application/json":
        raise ServiceProblemError(415, "media-type", "The body is not JSON", "Send Content-Type: application/json")
    try:
        return operation.body.model_validate_json(request.get_data())
    except ValidationError as error:
        raise problems.of_validation(error, "body") from error


def _with_receipt(actor: Actor, operation: Operation, body: BaseModel | None) -> Actor:
    key = request.headers.get("Idempotency-Key")
    if key is None:
        return actor
    if not 1 <= len(key) <= 200:
        raise ServiceProblemError(400, "bad-request", "The Idempotency-Key is too long", "Use up to 200 characters")
    query = sorted(item for item in request.args.items(multi=True))
    asked = [request.method, request.path, query, actor.in_place_of, body.model_dump_json() if body else ""]
    fingerprint = hashlib.sha256(json.dumps(asked).encode()).hexdigest()
    return replace(actor, receipt=Receipt(key, fingerprint))


def _version(operation: Operation) -> int | None:
    if not operation.match:
        return None
    header = request.headers.get("If-Match")
    if header is None:
        raise ServiceProblemError(428, "no-match", "If-Match is missing", "Send the ETag of what you looked at")
    found = re.fullmatch(r'"v(\d{1,9})"', header.strip())
    if not found:
        raise ServiceProblemError(400, "bad-request", f"{header!r} is no ETag of this", "Send the ETag as it was given")
    return int(found[1])


def _response(operation: Operation, answer: Answer) -> Response:
    if isinstance(answer.body, bytes):
        response = Response(answer.body, operation.status, content_type=answer.media_type)
        if answer.file_name:
            response.headers["Content-Disposition"] = f'attachment; filename="{answer.file_name}"'
    elif operation.status == 204:
        response = Response(status=204)
    elif not isinstance(answer.body, BaseModel):
        return Response(
            answer.body, operation.status, content_type=answer.media_type, headers={"Cache-Control": "no-store"}
        )
    else:
        response = Response(answer.body.model_dump_json(), operation.status, content_type="application/json")
    response.headers["Cache-Control"] = "no-cache" if operation.method == "GET" else "no-store"
    if answer.policy is not None:
        response.headers["Content-Security-Policy"] = answer.policy
    if answer.next is not None:
        query = urlencode({**request.args.to_dict(), "cursor": answer.next})
        response.headers["Link"] = f'<{request.path}?{query}>; rel="next"'
    if answer.etag is not None:
        # The version of what can be edited. Staleness and lapse change without it, so it never answers 304.
        response.headers["ETag"] = f'"{answer.etag}"'
    elif operation.method == "GET" and operation.status == 200:
        response.headers["ETag"] = f'"{answer.digest or hashlib.sha256(response.get_data()).hexdigest()[:32]}"'
        if "If-None-Match" in request.headers:
            response.make_conditional(request)
    return response


def _bind_problems(app: Flask, context: Context) -> None:
    app.register_error_handler(WorkError, problems.of_work)
    app.register_error_handler(ServiceProblemError, problems.of_service)

    def broken(error: LedgerBrokenError) -> Response:
        log.error("ledger", fault=str(error))
        hint = "Nothing is written until it is mended: run 'doorstone ledger verify', and restore a backup"
        return problems.document(503, "ledger-broken", problems.TITLES[503], str(error), hint)

    app.register_error_handler(LedgerBrokenError, broken)

    def http_error(error: HTTPException) -> Response:
        status = error.code or 500
        title = problems.TITLES.get(status, error.name)
        hint = {404: f"See {API}/openapi.json for what there is", 413: "Send it in parts of under 64 MiB"}
        detail = f"{request.method} {request.path}: {error.description}"
        response = problems.document(
            status, str(error.name).lower().replace(" ", "-"), title, detail, hint.get(status, "")
        )
        for name, value in error.get_headers():
            if name == "Allow":
                response.headers[name] = value
        return response

    def crash(error: Exception) -> Response:
        written = context.database.commits > request.environ.get(_COMMITS, 0)
        if has_no_room(error, context.database.path.parent) and not written:
            log.error("disk full", path=_without_secret(request.path), fault=str(error))
            return problems.no_room(context.database.path.parent)
        log.error("crash", path=_without_secret(request.path), written=written, exc_info=error)
        if written:
            detail = "It was written, and then something failed that should not have"
            hint = "Look at what is on record before you send it again; the service's log has the cause"
        else:
            detail = "Something failed that should not have; nothing was written"
            hint = "Try again; the service's log has the cause"
        return problems.document(500, "crash", problems.TITLES[500], detail, hint)

    app.register_error_handler(HTTPException, http_error)
    app.register_error_handler(Exception, crash)


def _without_secret(path: str) -> str:
    """The path as it may stand in a log. A calendar's address is its key, so it is left out."""
    return f"{API}/calendar/…" if path.startswith(f"{API}/calendar/") else path


def _around(inner: WSGIApplication) -> WSGIApplication:
    """The application, with the security headers that browsers need on each answer and a line in the log."""

    def outer(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        began = time.perf_counter()

        def start(status: str, headers: list[tuple[str, str]], *error: Any) -> Callable[[bytes], object]:
            log.info(
                "request",
                method=environ["REQUEST_METHOD"],
                path=_without_secret(environ["PATH_INFO"].encode("latin-1").decode(errors="replace")),
                status=int(status[:3]),
                ms=round((time.perf_counter() - began) * 1000, 1),
                actor=environ.get(_ACTOR),
            )
            own = any(name == "Content-Security-Policy" for name, _ in headers)
            return start_response(status, [*headers, *(_HEADERS if own else _WITH_POLICY)], *error)

        return inner(environ, start)

    return outer
