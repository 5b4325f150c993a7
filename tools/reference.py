"""Writes the parts of docs/reference that the code knows best; `--check` says whether they are current."""

from __future__ import annotations

import io
import os
import sys
from collections.abc import Iterator
from contextlib import redirect_stdout
from pathlib import Path
from typing import Any

os.environ |= {"TERMINAL_WIDTH": "100", "COLUMNS": "100", "TERM": "dumb", "NO_COLOR": "1"}  # before typer is loaded

from click import Context
from typer.core import TyperGroup
from typer.main import get_command

from doorstone.cli.main import JobOrder, app
from doorstone.core.conditions import OPERATORS
from doorstone.core.facts import BUILT_IN, FactType
from doorstone.formats.mapping import MappingDocument
from doorstone.formats.sheet_schema import json_schema
from doorstone.service.config import Config
from doorstone.service.record_files import KINDS, fields_of
from doorstone.service.resources import OPERATIONS

OUT = Path(__file__).parent.parent / "docs" / "reference"


def facts() -> Iterator[str]:
    yield "# Facts\n"
    yield "A fact is one typed property of a device. A sheet may declare more of its own in `[[fact]]`.\n"
    yield "Sizes may carry a unit, `8 GiB` or `8 GB`; they are kept in the unit of the fact. Lasting facts (a part, a"
    yield "firmware mode) do not age; passing ones count for as many days as their source allows. Two sources agree"
    yield "when their values differ by no more than the tolerance.\n"
    yield "| fact | what it is | type | unit | kind | values | tolerance |"
    yield "|---|---|---|---|---|---|---|"
    for spec in BUILT_IN.values():
        kind = "lasting" if spec.lasting else "passing"
        share = f"{spec.tolerance:.0%}" if spec.tolerance else ""
        cells = [f"`{spec.name}`", spec.title, spec.type.value, spec.unit or "", kind, ", ".join(spec.choices), share]
        yield f"| {' | '.join(cells)} |"
    yield "\n## Operators that fit each type\n"
    yield "| operator | types |"
    yield "|---|---|"
    for operator, types in OPERATORS.items():
        yield f"| `{operator}` | {', '.join(sorted(types))} |"


def api() -> Iterator[str]:
    yield "# API\n"
    yield "JSON over HTTP below `/api/v1`; the OpenAPI 3.1 document is served at `/api/v1/openapi.json`.\n"
    yield "- **Who calls:** a bearer token (`Authorization: Bearer ds_...`), or the console's session."
    yield "- **Errors** are problem documents (RFC 9457) with `hint` (what to do) and `errors` (each place: `pointer`,"
    yield "  `detail`, `hint`)."
    yield "- **`ETag`:** every JSON answer to GET has one. Operations marked *match* ask for `If-Match`:"
    yield "  428 without it, 412 if somebody else was faster."
    yield "- **`Idempotency-Key`:** operations marked *key* take one; the same key again gives the first answer."
    yield "- **Dry run:** operations marked *dry* take `?dry_run=true`: every check is made, the answer says what would"
    yield "  happen (200 in place of 201), and nothing is kept."
    yield "- **Pages:** operations marked *pages* give `next` in the body and a `Link` with `rel=next` (RFC 8288).\n"
    yield "| operation | what it does | roles | |"
    yield "|---|---|---|---|"
    for o in OPERATIONS:
        path = o.path if o.tag == "health" else f"/api/v1{o.path}"
        roles = "everybody" if len(o.roles) == 4 else ", ".join(sorted(o.roles)) or "public"
        marks = [
            word
            for word, on in (("match", o.match), ("key", o.creates), ("pages", o.pages), ("dry", o.rehearsed))
            if on
        ]
        yield f"| `{o.method} {path}` | {o.summary} | {roles} | {', '.join(marks)} |"


def configuration() -> Iterator[str]:
    yield "# Configuration\n"
    yield "A TOML file, then `DOORSTONE_...` variables, then options of `doorstone serve`; the later wins. The file is"
    yield "`doorstone.toml` in the working folder, or the one that `DOORSTONE_CONFIG` names.\n"
    yield "| in the file | variable | default | what it is |"
    yield "|---|---|---|---|"
    for name, field in Config.model_fields.items():
        default = "" if field.default is None else str(field.default)
        yield f"| `{name}` | `DOORSTONE_{name.upper()}` | `{default}` | {field.description} |"
    yield "\nFor the command line: `DOORSTONE_SERVER` (address of the service), `DOORSTONE_TOKEN` (bearer token),"
    yield "`DOORSTONE_PASSWORD` (for `sign-in` and `person add`, instead of the prompt)."


def _shape(part: dict[str, Any]) -> str:
    if "$ref" in part:
        return str(part["$ref"]).rsplit("/", 1)[-1].removesuffix("Part")
    if "enum" in part:
        return ", ".join(f"`{value}`" for value in part["enum"])
    if "const" in part:
        return f"`{part['const']}`"
    if "anyOf" in part:
        return " or ".join(dict.fromkeys(_shape(p) for p in part["anyOf"] if p.get("type") != "null"))
    if part.get("type") == "array":
        return f"list of {_shape(part.get('items', {}))}"
    if part.get("type") == "object":
        return "table"
    return str(part.get("format") or part.get("type") or "any value")


def sheet() -> Iterator[str]:
    schema = json_schema()
    yield "# The platform sheet\n"
    yield "A TOML file, format 1. `doorstone sheet check FILE` checks it without a service; `doorstone sheet schema`"
    yield "prints the JSON Schema (2020-12) that this page is made from. Unknown keys are refused.\n"
    for name, part in {"Sheet": schema, **schema["$defs"]}.items():
        title = name.removesuffix("Part")
        yield f"## {title}\n"
        if part.get("description"):
            yield f"{part['description']}\n"
        yield "| key | what may stand there | needed | default | |"
        yield "|---|---|---|---|---|"
        for key, held in part["properties"].items():
            needed = "yes" if key in part.get("required", []) else ""
            default = "" if held.get("default") in (None, [], "") else f"`{held['default']}`"
            yield f"| `{key}` | {_shape(held)} | {needed} | {default} | {held.get('description', '')} |"
        yield ""
    yield SHEET_RULES


SHEET_RULES = """## What is refused

A sheet that cannot be meant is refused with its line: `until` that does not come after `from`; two sorts or effects
from one release, or one outside the requirement's span; servicing that ends before publication; a release without an
edition; an override that covers what is a floor wherever it works, or that conflicts with itself; a fix that gives
nothing that its requirement looks at, or leaves it unmet; a requirement on `media.*` (write a gate); an empty effect.

## What each kind of override needs

| kind | needs |
|---|---|
| `setting` | `settings`, each with a `place` of `[store]` |
| `answer` | `settings` with `place = "answers"` |
| `argument` | `arguments` for set-up |
| `prepared-media` | `files` that are `added`, each with `file` |
| `media-file` | `files` that are `emptied`, `replaced` (with `file`) or `removed`, each with the SHA-256 `before` |
| `loader` | `loader` with `stick`, `disk` and `file` |

## Words

- A condition that is left out (`needs`, `when`) is shown as *always*.
- In a `json-file` store a setting's `path` and `name` are the steps of a JSON Pointer (RFC 6901): path
  `setup/compat` and name `accept` is `/setup/compat/accept`. A step that is not there yet is made; one that is no
  object as shipped is refused.
- A model table has the columns `model`, `last`, `possible`, `patches`. Patches are separated by semicolons. An empty
  `last` means that the maker carries the model to no release; an empty `possible` means the same as `last`. A model
  that is not in the table does not meet a requirement that is tied to it."""


MAPPING_HEAD = """# Mappings

A TOML file, format 1, that says how a foreign table or JSON becomes readings:
`doorstone reading import FILE --map MAPPING`, or the Mapping field of the console's Readings page.
Try it with `--dry-run` first. Unknown keys are refused.
"""
MAPPING_RULES = """## Numbers

A mark before exactly three digits may part thousands or begin the decimals: `8,192` is 8192 or 8.192.
Unless `decimal` (or `thousands`) says which, such a number is refused with both readings. `7,9`, `1.234,5`
and `8 192` can be read one way only, and are. Numbers of JSON are taken as they are. A unit in the cell
counts before `unit`.

`sizes = "as-sold"`: on memory, kB, MB, GB, TB mean KiB, MiB, GiB, TiB, as on the label of a module. Disks
are sold in the plain sense, so it does not touch them.

## Dates

Several ways to write a date may be given, in `dates` for the file or `time` for a column. A date that two
of them read differently is refused with both. The constant `taken_at = "now"` is the time of the import.

## Tables

Commas, semicolons and tabs are told apart by the header line, unless `separator` says. A file is UTF-8,
UTF-16 with its mark, or what `encoding` names.

## Names and parts of cells

`strip`, `split` with `take`, and `case` work on a cell before anything else reads it, in this order. So an export that
says `NORTHMERE\\HB-PC-010.northmere.example` gives the device `hb-pc-010` and the site `HB`:

```toml
[[column]]
from = "Host"
to = "device"
strip = ["NORTHMERE\\\\", ".northmere.example"]
case = "lower"

[[column]]
from = "Host"
to = "site"
strip = ["NORTHMERE\\\\"]
split = "-"
take = 1
```

## Paths into JSON

`from` is the path of keys, joined by dots. The items of a list of objects go by their `id`, else by their
place from 0 on. `**.` at the beginning stands for any keys: the first place in the file where the rest is
found. A path to an object gives the words of a set: its keys, but those that are false.

## Ready ones

- [`lshw.toml`](../mappings/lshw.toml): the JSON that `lshw -json` prints on Debian."""


def mappings() -> Iterator[str]:
    schema = MappingDocument.model_json_schema(by_alias=True)
    yield MAPPING_HEAD
    for title, part in (("The file", schema), ("Each `[[column]]`", schema["$defs"]["ColumnPart"])):
        yield f"## {title}\n"
        yield "| key | what may stand there | needed | default | |"
        yield "|---|---|---|---|---|"
        for key, held in part["properties"].items():
            needed = "yes" if key in part.get("required", []) else ""
            default = "" if held.get("default") in (None, [], "", {}) else f"`{held['default']}`"
            yield f"| `{key}` | {_shape(held)} | {needed} | {default} | {held.get('description', '')} |"
        yield ""
    yield MAPPING_RULES


RECORDS_HEAD = """# Records from files

A file holds a row for each record: a table that ends in `.csv` or `.tsv` (with a header), JSON (one list of objects),
or NDJSON (one object a line). Rows are recorded all or none; everything that is wrong is named by its line. Columns
that nobody knows are refused; a [mapping](mappings.md) (`--map`) brings in foreign columns, dates and words. Several
words in a cell are parted by semicolons. Empty cells are left out.
"""
RECORD_COMMANDS = {
    "attempts": "attempt import", "observations": "observe import", "fixes": "fix import", "lives": "device import",
    "settlements": "dispute import", "follow-ups": "follow-up import",
}  # fmt: skip


def records() -> Iterator[str]:
    yield RECORDS_HEAD
    for kind, of in KINDS.items():
        yield f"## {kind.capitalize()}\n"
        yield f"`doorstone {RECORD_COMMANDS[kind]} FILE`, `POST /records/{kind}`\n"
        yield "| column | what may stand there | needed | |"
        yield "|---|---|---|---|"
        for name, field in fields_of(kind).items():
            held = of.row.model_fields[name]
            words = ", ".join(f"`{word}`" for word in field.choices) or WORDS_OF_TYPE[field.type]
            needed = "yes" if held.is_required() else ""
            yield f"| `{name}` | {words} | {needed} | {held.description or ''} |"
        yield ""


WORDS_OF_TYPE = {
    FactType.TEXT: "text", FactType.SET: "words", FactType.DATE: "a day, 2027-01-18",
    FactType.TIMESTAMP: "a time, 2027-01-18T09:30:00", FactType.FLAG: "`true`, `false`",
}  # fmt: skip


ROOT = get_command(app)


def _help(*words: str) -> str:
    printed = io.StringIO()
    with redirect_stdout(printed):
        ROOT.main([*words, "--help"], prog_name="doorstone", standalone_mode=False)
    text = printed.getvalue()
    return "\n".join(line.rstrip() for line in text.strip("\n").splitlines())


def _commands() -> Iterator[list[str]]:
    """Every group and command, in the job's order."""
    assert isinstance(ROOT, TyperGroup)
    for name in JobOrder.places:
        yield [name]
        held = ROOT.get_command(Context(ROOT), name)
        if isinstance(held, TyperGroup):
            yield from ([name, verb] for verb in held.commands)


def cli() -> Iterator[str]:
    yield "# Command line\n"
    yield "Nouns, then verbs, in the job's order. Every listing takes `--format table|json|csv`. Data goes to standard"
    yield "output, words for people to standard error.\n"
    yield "| exit code | meaning |\n|---|---|"
    codes = ["done", "the service failed", "wrong usage", "refused by a rule", "bad input", "no such thing",
             "not signed in, or not allowed", "no answer"]  # fmt: skip
    yield from (f"| {number} | {words} |" for number, words in enumerate(codes))
    yield f"\n```text\n{_help()}\n```"
    for words in _commands():
        yield f"\n{'#' * (1 + len(words))} doorstone {' '.join(words)}\n\n```text\n{_help(*words)}\n```"


PAGES = {"facts.md": facts, "api.md": api, "configuration.md": configuration, "sheet.md": sheet, "cli.md": cli,
         "mappings.md": mappings, "records.md": records}  # fmt: skip


def main() -> int:
    stale = []
    for name, write in PAGES.items():
        text = "\n".join(write()) + "\n"
        path = OUT / name
        if "--check" in sys.argv:
            if not path.exists() or path.read_text() != text:
                stale.append(name)
        else:
            path.write_text(text)
    if stale:
        print(f"Not current: {', '.join(stale)}. Run 'make reference'.")
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
