"""Impact of a changed sheet on what rests on it: overrides that end, forecasts that can differ.

In: two revisions of a platform. Out: releases or reasons, none where nothing changes.
"""

from __future__ import annotations

from msgspec.structs import replace

from doorstone.core.platforms.platform import Override, Platform


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
