"""Text that people read: characters that change how a terminal or a page shows the text around them.

Control characters (C0 without tab and line breaks, DEL, C1), and the characters that change the direction of text.
"""

from __future__ import annotations

import re

_HIDDEN = re.compile(
    "[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff\ufff9-\ufffb]"
)


def hidden_character(text: str) -> str:
    """The first such character of a text, as `U+001B`; empty if there is none."""
    found = None if text.isprintable() else _HIDDEN.search(text)
    return f"U+{ord(found[0]):04X}" if found else ""


def escaped(text: str) -> str:
    """The text with each such character written as an escape, `\\u001b`, so that it can be seen and does nothing."""
    return text if text.isprintable() else _HIDDEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)
