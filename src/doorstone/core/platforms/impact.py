"""Impact of a changed sheet on what rests on it: overrides that end, kits that would be made otherwise.

In: two revisions of a platform. Out: releases or reasons, none where nothing changes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from doorstone.core.platforms.platform import Override, Platform

MADE_OF = ("settings", "arguments", "files", "loader", "kind", "cautions", "expect", "restart", "lasting")
"""What of an override is in a kit."""


def releases_lost(old: Platform, new: Platform, override: Override) -> list[str]:
    """The releases on which an override works by the old revision and not by the new one."""
    now = override_of(new, override.id)
    return [
        r.id
        for r in new.releases
        if old.has(r.id)
        and old.in_span(r.id, override.since, override.until)
        and (now is None or not new.in_span(r.id, now.since, now.until))
    ]


def kit_objections(
    old: Platform, new: Platform, release: str, overrides: Sequence[str], sets: Sequence[str]
) -> Iterator[str]:
    """Why a kit of these overrides and settings sets would no longer be what the sheet says."""
    if not new.has(release):
        yield f"release {release} is no longer in the sheet"
    for name in overrides:
        was, now = override_of(old, name), override_of(new, name)
        if now is None:
            yield f"its override {name} is gone"
        elif new.has(release) and not new.in_span(release, now.since, now.until):
            yield f"its override {name} does not work on {release}"
        elif was and any(getattr(was, part) != getattr(now, part) for part in MADE_OF):
            yield f"its override {name} is done in another way"
    if old.store != new.store:
        yield "settings are kept in another way"
    before, after = {s.id: s for s in old.sets}, {s.id: s for s in new.sets}
    yield from (f"its settings set {name} differs" for name in sets if before.get(name) != after.get(name))


def foretell_alike(old: Platform, new: Platform) -> bool:
    """Whether what two sheets foretell of a device can differ only where a requirement's finding does.

    That is so if nothing but what requirements ask for differs, and no fix, nor a clean install, gives a fact that
    these look at: a finding that stands today stands after every fix.
    """
    if replace(old, requirements=new.requirements, lists=new.lists) != new:
        return False
    given = {name for known in new.requirements for fix in known.fixes for name in fix.gives} | {"os.arch"}
    if len(old.requirements) != len(new.requirements):
        return False
    for was, now in zip(old.requirements, new.requirements, strict=True):
        looked_at = was.condition.facts() | now.condition.facts()
        if was != now and (replace(was, condition=now.condition) != now or given & looked_at):
            return False
    return True


def override_of(platform: Platform, name: str) -> Override | None:
    return next((override for override in platform.overrides if override.id == name), None)
