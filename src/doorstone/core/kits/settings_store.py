"""How the settings of a kit are written in a platform's own form, and every file that a kit changes on a device.

In: a platform's store and the settings by place. Out: `Piece`s, one per changed file, each with what it holds, how it
is put in and how it is looked at afterwards. A JSON store gets a JSON Patch (RFC 6902) with tests, and its inverse.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from doorstone.core.platforms.platform import Loader, MediaFile, Setting, Store

Fill = Callable[[str, Mapping[str, Any]], str]
ANSWERS = "answers"  # the place of settings that go to set-up as an answer file
DROP_IN = "60-doorstone.ini"
DROP_IN_AFTER = "65-doorstone-after.ini"


class StoreError(ValueError):
    """A setting that the store has no room for."""


class KitFileChange(Struct, frozen=True):
    """One file that a kit changes below a root.

    `change` is put, patch or drop. `look` is how it is verified: ini, json, lines, same or gone; `beside` the file in
    the kit that this needs. `before` is the SHA-256 of what must be there first, if that matters.
    """

    place: str
    target: str
    change: str
    look: str
    source: str = ""
    beside: str = ""
    before: str = ""


def setting_text(setting: Setting) -> str:
    """A setting's value as text; list items are joined by a semicolon."""
    if isinstance(setting.value, bool):
        return "true" if setting.value else "false"
    if isinstance(setting.value, list | tuple):
        return "; ".join(str(item) for item in setting.value)
    return str(setting.value)


def by_place(settings: Iterable[Setting]) -> dict[str, list[Setting]]:
    """Settings by place, in order, merged where two add to one list."""
    merged: dict[tuple[str, str, str], Setting] = {}
    for setting in settings:
        key = (setting.place, setting.path, setting.name)
        held = merged.get(key)
        if held is not None and setting.type == "list":
            items = [*held.value, *(item for item in setting.value if item not in held.value)]
            setting = Setting(setting.path, setting.name, "list", items, setting.place)
        merged[key] = setting
    places: dict[str, list[Setting]] = {}
    for (place, _, _), setting in sorted(merged.items()):
        places.setdefault(place, []).append(setting)
    return places


def ini_text(heading: str, settings: Sequence[Setting]) -> bytes:
    lines = [f"# {heading}"]
    section = None
    for setting in settings:
        if setting.path != section:
            section = setting.path
            lines.append(f"[{section}]")
        lines.append(f"{setting.name} = {setting_text(setting)}")
    return ("\n".join(lines) + "\n").encode()


def store_changes(
    store: Store, place: str, settings: Sequence[Setting], folder: str, heading: str, fill: Fill | None,
    about: Mapping[str, Any],
) -> tuple[list[KitFileChange], dict[str, bytes]]:  # fmt: skip
    """What changes at one place, and the files of the kit below `folder` with which it does.

    `fill` renders a template with its values. Raises `StoreError`.
    """
    target = store.places[place]
    if store.kind == "json-file":
        patch, inverse = json_changes(store.shipped.get(place, {}), settings)
        wanted = [{"path": pointer(s), "section": s.path, "name": s.name, "value": s.value} for s in settings]
        files = {
            f"{folder}/{place}.patch.json": _json(patch),
            f"{folder}/{place}.inverse.json": _json(inverse),
            f"{folder}/{place}.wanted.json": _json(wanted),
        }
        return [KitFileChange(place, target, "patch", "json", *list(files)[::2])], files
    if store.kind == "templates":
        assert fill is not None
        values = [
            {"path": s.path, "name": s.name, "type": s.type, "value": s.value, "text": setting_text(s)}
            for s in settings
        ]
        text = fill(store.templates[place], {**about, "place": place, "settings": values})
        source = f"{folder}/{place}.txt"
        return [KitFileChange(place, target, "put", "lines", source, source)], {source: text.encode()}
    source = f"{folder}/{place}.ini"
    name = DROP_IN_AFTER if folder == "after" else DROP_IN
    return [KitFileChange(place, f"{target}/{name}", "put", "ini", source, source)], {
        source: ini_text(heading, settings)
    }


def media_changes(files: Iterable[MediaFile], loaders: Iterable[Loader], patches: Sequence[str]) -> _Pieces:
    """What changes on a working copy of the media: files of overrides, and loaders with the model's patches."""
    pieces, made = [], {}
    for file in sorted(files, key=lambda f: f.path):
        if file.change == "removed":
            pieces.append(KitFileChange("media", file.path, "drop", "gone", before=file.before))
            continue
        source = f"media/{file.path}"
        made[source] = file.data
        pieces.append(KitFileChange("media", file.path, "put", "same", source, source, file.before))
    for loader in loaders:
        more, files_of = _loader("media", "media", loader.stick, loader.data, patches)
        pieces += more
        made |= files_of
    return pieces, made


_Pieces = tuple[list[KitFileChange], dict[str, bytes]]


def loader_changes(loaders: Iterable[Loader], patches: Sequence[str]) -> _Pieces:
    """What changes on the internal disk once the release is there: the loader moves onto it."""
    pieces: list[KitFileChange] = []
    made: dict[str, bytes] = {}
    for loader in loaders:
        more, files = _loader("disk", "loader", loader.disk, loader.data, patches)
        pieces += more
        made |= files
    return pieces, made


def _loader(place: str, folder: str, path: str, data: bytes, patches: Sequence[str]) -> _Pieces:
    held = {path: data}
    if patches:
        held[f"{path}.patches"] = "".join(f"{patch}\n" for patch in patches).encode()
    made = {f"{folder}/{name}": body for name, body in held.items()}
    return [KitFileChange(place, name, "put", "same", f"{folder}/{name}", f"{folder}/{name}") for name in held], made


# ------------------------------------------------------------------ JSON Patch


def pointer(setting: Setting) -> str:
    """The JSON Pointer (RFC 6901) of a setting: the steps of its path, then its name."""
    steps = [*setting.path.split("/"), setting.name]
    return "".join("/" + step.replace("~", "~0").replace("/", "~1") for step in steps)


def json_changes(
    shipped: Mapping[str, Any], settings: Sequence[Setting]
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The JSON Patch that puts settings into a document as shipped, with tests, and its inverse.

    Objects on the way that are not there are added. Raises `StoreError` where the way leads through something else.
    """
    document = copy.deepcopy(dict(shipped))
    patch: list[dict[str, Any]] = []
    inverse: list[list[dict[str, Any]]] = []
    for setting in settings:
        steps = pointer(setting).split("/")[1:]
        at: Any = document
        for depth, step in enumerate(steps):
            path = "/" + "/".join(steps[: depth + 1])
            if not isinstance(at, dict):
                raise StoreError(f"{path.rpartition('/')[0]} is no object as shipped, so {setting.name} has no place")
            key = step.replace("~1", "/").replace("~0", "~")
            last = depth == len(steps) - 1
            value = setting.value if last else {}
            if key not in at:
                patch.append({"op": "add", "path": path, "value": copy.deepcopy(value)})
                inverse.append([{"op": "test", "path": path, "value": copy.deepcopy(value)},
                                {"op": "remove", "path": path}])  # fmt: skip
                at[key] = copy.deepcopy(value)
            elif last:
                patch += [
                    {"op": "test", "path": path, "value": at[key]},
                    {"op": "replace", "path": path, "value": value},
                ]
                inverse.append([{"op": "test", "path": path, "value": value},
                                {"op": "replace", "path": path, "value": at[key]}])  # fmt: skip
                at[key] = copy.deepcopy(value)
            at = at[key]
    return patch, [step for steps_back in reversed(inverse) for step in steps_back]


def _json(data: Any) -> bytes:
    return (json.dumps(data, indent=2, ensure_ascii=False) + "\n").encode()
