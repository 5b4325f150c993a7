"""Serves the built console: its files, and its one page for every address that is not the API's."""

from __future__ import annotations

import gzip
import mimetypes
from functools import lru_cache
from importlib import resources

from flask import Flask, Response, request
from werkzeug.exceptions import NotFound
from werkzeug.security import safe_join

_MISSING = (
    "<!doctype html><html lang='en'><title>Door Stone</title><body><h1>The console is not built</h1>"
    "<p>Run <code>make console</code> in the source folder. The API works without it.</p></body></html>"
)


_TEXTS = ("text/", "application/javascript", "image/svg+xml")


@lru_cache(maxsize=200)
def _file(path: str, small: bool) -> bytes:
    """A file of the build, compressed if `small`. Its name changes with its content, so it is read once."""
    data = (resources.files("doorstone.service") / "pages").joinpath(path).read_bytes()
    return gzip.compress(data, 9, mtime=0) if small else data


def bind_console(app: Flask) -> None:
    pages = resources.files("doorstone.service") / "pages"

    def page(path: str = "") -> Response:
        if path.startswith("api/"):
            raise NotFound()
        if path.startswith("assets/") or path == "icon.svg":
            if safe_join("/", path) is None:
                raise NotFound()
            if len(path) > 200 or not pages.joinpath(path).is_file():
                raise NotFound()
            kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
            small = request.accept_encodings.quality("gzip") > 0 and kind.startswith(_TEXTS)
            response = Response(_file(path, small), content_type=kind)
            if small:
                response.headers["Content-Encoding"] = "gzip"
            response.headers["Vary"] = "Accept-Encoding"
            response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        index = pages / "index.html"
        text = index.read_text("utf-8") if index.is_file() else _MISSING
        response = Response(text, content_type="text/html; charset=utf-8")
        response.headers["Cache-Control"] = "no-cache"
        return response

    app.add_url_rule("/", "console", page)
    app.add_url_rule("/<path:path>", "console_page", page)
