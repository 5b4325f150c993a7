"""A kit's runbook as an HTML page that stands alone, with boxes to tick on paper."""

from __future__ import annotations

import base64
import hashlib
from html import escape
from importlib import resources

from markdown_it import MarkdownIt

_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>{style}</style>
</head>
<body>
{body}
</body>
</html>
"""


def runbook_page(title: str, markdown: str) -> tuple[str, str]:
    """The page, and `sha256-...` of its style for a content security policy. HTML in the text stays text."""
    style = (resources.files("doorstone.formats.templates") / "exception.css").read_text("utf-8")
    reader = MarkdownIt("commonmark", {"html": False}).enable("table")
    body = reader.render(markdown.replace("- [ ] ", "- ☐ "))
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    return _PAGE.format(title=escape(title), style=style, body=body), f"sha256-{digest}"
