"""The budget paper as an HTML page that stands alone, to print."""

from __future__ import annotations

import base64
import hashlib
from functools import cache
from importlib import resources

from jinja2 import Environment, StrictUndefined

WAY_WORDS = {
    "stay": "stay as they are", "take": "take what is offered", "fix": "are fixed", "except": "go on by exception",
    "extend": "have paid servicing", "replace": "are replaced",
}  # fmt: skip


@cache
def _parts() -> tuple[Environment, str, str]:
    folder = resources.files("doorstone.formats.templates")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters["money"] = lambda amount: f"{amount:,.2f}"
    return environment, (folder / "budget.html").read_text("utf-8"), (folder / "exception.css").read_text("utf-8")


def budget_page(paper: object) -> tuple[str, str]:
    """The page of a budget paper, and `sha256-...` of its style for a content security policy without inline code."""
    environment, template, style = _parts()
    text = environment.from_string(template).render(paper=paper, ways=WAY_WORDS, style=style)
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    return text, f"sha256-{digest}"
