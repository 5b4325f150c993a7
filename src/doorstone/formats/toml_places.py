"""Where in a TOML text something stands: the line of every table, key and element, by its path in the data."""

from __future__ import annotations

import tomllib

import tree_sitter_toml
from tree_sitter import Language, Node, Parser

from doorstone.formats.toml import Path

_LANGUAGE = Language(tree_sitter_toml.language())
_KEYS = frozenset({"bare_key", "quoted_key", "dotted_key"})


class TomlPlaces:
    """The lines of a text that `read_toml` has read. A path is made of keys, and of the numbers of elements from 0.

    The text is looked through once somebody asks, as most have nothing wrong with them.
    """

    def __init__(self, text: str) -> None:
        self._text = text
        self._lines: dict[Path, int] = {}
        self._elements: dict[Path, int] = {}

    def _look_through(self) -> None:
        table: Path = ()
        for node in Parser(_LANGUAGE).parse(self._text.encode()).root_node.named_children:
            if node.type == "pair":
                self._pair(table, node)
            elif node.type in ("table", "table_array_element"):
                self._table(node)

    def __call__(self, path: Path) -> int | None:
        """The line of what is at a path, from 1, or of the nearest that it stands in; None for the text as a whole."""
        if not self._lines:
            self._look_through()
        while path:
            if path in self._lines:
                return self._lines[path]
            path = path[:-1]
        return None

    def _table(self, node: Node) -> None:
        path: Path = ()
        *outer, name = _keys(node.named_children[0])
        for one in outer:
            path = (*path, one)
            if path in self._elements:
                path = (*path, self._elements[path])
        path = (*path, name)
        if node.type == "table_array_element":
            self._elements[path] = self._elements.get(path, -1) + 1
            self._note(path, node)
            path = (*path, self._elements[path])
        self._note(path, node)
        for pair in node.named_children[1:]:
            if pair.type == "pair":
                self._pair(path, pair)

    def _pair(self, table: Path, node: Node) -> None:
        key, *values = node.named_children
        path = table
        for one in _keys(key):
            path = (*path, one)
            self._note(path, node)
        for value in values:
            self._value(path, value)

    def _value(self, path: Path, node: Node) -> None:
        if node.type == "inline_table":
            for pair in node.named_children:
                if pair.type == "pair":
                    self._pair(path, pair)
        elif node.type == "array":
            for at, one in enumerate(child for child in node.named_children if child.type != "comment"):
                self._note((*path, at), one)
                self._value((*path, at), one)

    def _note(self, path: Path, node: Node) -> None:
        self._lines.setdefault(path, node.start_point.row + 1)


def _keys(node: Node) -> list[str]:
    """The parts of a key: a bare or quoted one, or several with dots between them."""
    text = (node.text or b"").decode()
    if node.type == "dotted_key":
        return [part for child in node.named_children if child.type in _KEYS for part in _keys(child)]
    return list(tomllib.loads(f"{text} = 0")) if node.type == "quoted_key" else [text]
