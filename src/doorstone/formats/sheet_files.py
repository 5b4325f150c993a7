"""The parts of a sheet that reach for files beside it: how settings are kept, changed media files, loaders, sets.

In: parts of a sheet's document and the texts beside it. Out: values of the core; problems go to `add`.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from jinja2 import TemplateSyntaxError
from jinja2.sandbox import ImmutableSandboxedEnvironment
from msgspec import Struct

from doorstone.core.kits.settings_store import ANSWERS, StoreError, json_changes
from doorstone.core.platforms.platform import Loader, MediaFile, Setting, Store
from doorstone.formats.sheet_schema import LoaderPart, MediaFilePart, OverridePart, SettingPart, StorePart

Path = tuple[str | int, ...]
Add = Callable[[Path, str, str], None]
Known = Callable[[str, str | None, Sequence[str], Path], None]
_KINDS = {"text": str, "integer": int, "flag": bool, "list": list}


class SheetFiles(Struct, frozen=True):
    """The files beside a sheet, and where to tell what is wrong."""

    files: Mapping[str, str]
    add: Add
    known: Known

    def data(self, name: str, path: Path) -> bytes:
        """The bytes of a file beside the sheet; base64 where its name ends in .b64."""
        text = self.files.get(name)
        if text is None:
            self.add(path, f"The file {name!r} is missing", "Put the file beside the sheet and load both")
            return b""
        if not name.endswith(".b64"):
            return text.encode()
        try:
            return base64.b64decode("".join(text.split()), validate=True)
        except binascii.Error:
            self.add(path, f"{name} is not base64", "Encode the file as base64")
            return b""

    def store(self, part: StorePart) -> Store:
        shipped: dict[str, Mapping[str, Any]] = {}
        for place, name in part.shipped.items():
            self.known("place", place, list(part.places), ("store", "shipped"))
            try:
                document = json.loads(self.data(name, ("store", "shipped")) or b"{}")
            except ValueError as error:
                self.add(("store", "shipped"), f"{name} is not JSON: {error}", "Correct it")
                continue
            if isinstance(document, dict):
                shipped[place] = document
            else:
                self.add(("store", "shipped"), f"{name} is no JSON object", "Begin it with {")
        templates = {}
        for place, name in part.templates.items():
            self.known("place", place, list(part.places), ("store", "templates"))
            templates[place] = self._template(name)
        if part.kind == "templates":
            for place in sorted(set(part.places) - set(part.templates)):
                hint = f'Add templates = {{ {place} = "..." }} and the file beside the sheet'
                self.add(("store", "places"), f"The place {place!r} has no template", hint)
        return Store(part.kind, dict(part.places), part.set_up, shipped, templates)

    def _template(self, name: str) -> str:
        text = self.data(name, ("store", "templates")).decode()
        try:
            ImmutableSandboxedEnvironment().parse(text)
        except TemplateSyntaxError as error:
            self.add(("store", "templates"), f"{name}, line {error.lineno}: {error.message}", "Correct the template")
        return text

    def settings(self, parts: Sequence[SettingPart], places: Sequence[str], path: Path) -> tuple[Setting, ...]:
        for part in parts:
            self.known("place", part.place, places, path)
            if type(part.value) is not _KINDS[part.type]:
                self.add(path, f"{part.name} is not of type {part.type}", "Correct type or value")
            elif isinstance(part.value, list) and any(";" in item for item in part.value):
                hint = "Items are joined by semicolons; leave them out of each"
                self.add(path, f"An item of {part.name} has a semicolon in it", hint)
        return tuple(Setting(s.path, s.name, s.type, s.value, s.place) for s in parts)

    def fits_store(self, settings: Sequence[Setting], store: Store, path: Path) -> None:
        """Whether a JSON store as shipped has room for the settings."""
        if store.kind != "json-file":
            return
        for place in {s.place for s in settings} - {ANSWERS}:
            try:
                json_changes(store.shipped.get(place, {}), [s for s in settings if s.place == place])
            except StoreError as error:
                self.add(path, str(error), "Name a path that leads through objects")

    def media_files(self, parts: Sequence[MediaFilePart], path: Path) -> tuple[MediaFile, ...]:
        found = []
        for at, part in enumerate(parts):
            here: Path = (*path, "files", at)
            if (part.file is None) != (part.change in ("emptied", "removed")):
                self.add(here, f"{part.path} is {part.change}", "Give `file` for added and replaced, for no other")
            if (part.before is None) != (part.change == "added"):
                self.add(here, f"{part.path} is {part.change}", "Give `before` for every change but added")
            data = self.data(part.file, here) if part.file else b""
            found.append(MediaFile(part.path, part.change, data, part.before or ""))
        return tuple(found)

    def loader(self, part: LoaderPart | None, path: Path) -> Loader | None:
        if part is None:
            return None
        return Loader(part.stick, part.disk, self.data(part.file, (*path, "loader")))

    def override_kind(self, part: OverridePart, path: Path) -> None:
        """Whether an override brings what its kind is about."""
        changes = {file.change for file in part.files}
        if part.kind == "argument" and not part.arguments:
            self.add(path, "An argument override needs arguments", 'Add arguments = ["--..."]')
        if part.kind in ("setting", "answer") and not part.settings:
            self.add(path, f"An override of kind {part.kind} needs settings", "Add settings = [ ... ]")
        if part.kind == "prepared-media" and changes != {"added"}:
            self.add(path, "Prepared media has files added", 'Add files = [ { path = ..., change = "added", ... } ]')
        if part.kind == "media-file" and (not changes or "added" in changes):
            hint = "Add files = [ ... ] that are emptied, replaced or removed"
            self.add(path, "A media-file override changes files that are there", hint)
        if part.kind not in ("prepared-media", "media-file") and part.files:
            hint = "Use prepared-media or media-file"
            self.add(path, f"An override of kind {part.kind} changes no media files", hint)
        if (part.kind == "loader") != (part.loader is not None):
            self.add(path, "A loader override, and no other, has a loader", "Add loader = { ... }, or change kind")
