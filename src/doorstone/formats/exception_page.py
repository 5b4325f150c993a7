"""One exception as an HTML page that stands alone: to print, to mail, to keep with an auditor's papers."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping, Sequence
from functools import cache
from importlib import resources
from typing import Any, NamedTuple

from jinja2 import Environment, StrictUndefined
from msgspec import Struct
from msgspec.structs import asdict


class ConditionLine(NamedTuple):
    """A condition as the page shows it; `devices` on which the facts do not show it kept, and what they show."""

    text: str
    word: str
    measured: str
    devices: Mapping[str, str]


class CommentLine(NamedTuple):
    kind: str
    text: str
    by: str
    at: str


class ExceptionPageData(Struct, frozen=True):
    """What the page says. `row` has the columns of the register; the tuples are in the order of the page's tables."""

    id: str
    row: Mapping[str, Any]
    risk: str
    notice: str
    requirements: Sequence[tuple[str, str, str]]
    shown: Mapping[str, Mapping[str, Any]]
    left_out: Mapping[str, str]
    approvals: Sequence[tuple[str, str, str]]
    conditions: Sequence[ConditionLine]
    attachments: Sequence[tuple[str, str, str]]
    comments: Sequence[CommentLine]
    stale: Mapping[str, Sequence[str]]
    consequences: Sequence[tuple[str, Sequence[str]]]
    story: Sequence[tuple[int, str, str]]
    printed_at: str


@cache
def _parts() -> tuple[Environment, str, str]:
    folder = resources.files("doorstone.formats.templates")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters["moment"] = lambda text: str(text)[:16].replace("T", " ")
    return environment, (folder / "exception.html").read_text("utf-8"), (folder / "exception.css").read_text("utf-8")


def exception_page(data: ExceptionPageData) -> tuple[str, str]:
    """The page, and `sha256-...` of its style for a content security policy without inline code."""
    environment, template, style = _parts()
    text = environment.from_string(template).render(**asdict(data), style=style)
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    return text, f"sha256-{digest}"
