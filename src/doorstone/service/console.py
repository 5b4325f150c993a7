"""Serves the built console: its files, and its one page for every address that is not the API's."""

from __future__ import annotations

import mimetypes
from importlib import resources

from flask import Flask, Response
from werkzeug.exceptions import NotFound
from werkzeug.security import safe_join

_MISSING = (
    "<!doctype html><html lang='en'><title>Door Stone</title><body><h1>The console is not built</h1>"
    "<p>Run <code>make console</code> in the source folder. The API works without it.</p></body></html>"
)


def bind_console(app: Flask) -> None:
    pages = resources.files("doorstone.service") / "pages"

    def page(path: str = "") -> Response:
        if path.startswith("api/"):
            raise NotFound()
        if path.startswith("assets/") or path == "icon.svg":
            if safe_join("/", path) is None:
                raise NotFound()
            entry = pages.joinpath(path)
            if not entry.is_file():
                raise NotFound()
            kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
            response = Response(entry.read_bytes(), content_type=kind)
            response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        index = pages / "index.html"
        text = index.read_text("utf-8") if index.is_file() else _MISSING
        response = Response(text, content_type="text/html; charset=utf-8")
        response.headers["Cache-Control"] = "no-cache"
        return response

    app.add_url_rule("/", "console", page)
    app.add_url_rule("/<path:path>", "console_page", page)
