"""Set-up media: what is on each, which fits a device, and which a batch needs.

In: media as recorded, what the devices of a batch need, sizes of sticks. Out: facts for the gates, the media that fits,
a plan: the fewest media that serve the batch, on sticks of which size at which site, and every mismatch by name.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from itertools import combinations

from msgspec import Struct

from doorstone.core.facts import FactValue

STICKS_GB = (8, 16, 32, 64, 128, 256)
ROOM = 93  # percent of a stick's nominal size that its file system leaves


class Media(Struct, frozen=True):
    """One set-up media. `release` is what is on it, `asked` what its maker was asked for. Sizes in bytes and GB.

    `verified` says that its SHA-256 was found to be the published one.
    """

    id: str
    platform: str
    release: str
    asked: str
    editions: tuple[str, ...]
    language: str
    arch: str
    size: int
    sha256: str
    verified: bool
    origin: str = ""
    table: str = "gpt"
    stick_gb: int | None = None
    link_ends: date | None = None

    @property
    def needs_gb(self) -> int:
        """The size of the smallest usual stick that holds it; 0 if none does."""
        return next((gb for gb in STICKS_GB if fits(self.size, gb)), 0)

    def defects(self, today: date) -> tuple[str, ...]:
        """What is wrong with it, in words."""
        found = []
        if self.release != self.asked:
            found.append(f"it holds {self.release}, though {self.asked} was asked for")
        if not self.verified:
            found.append("its SHA-256 is not verified")
            if self.link_ends is not None and self.link_ends < today:
                found.append(f"its link expired on {self.link_ends}: ask for it again")
        if self.stick_gb is not None and not fits(self.size, self.stick_gb):
            found.append(f"it does not fit a stick of {self.stick_gb} GB")
        return tuple(found)


def fits(size: int, stick_gb: int) -> bool:
    """Whether so many bytes fit a stick of that nominal size."""
    return size <= room_on(stick_gb)


def room_on(stick_gb: int) -> int:
    """How many bytes fit on a stick of this nominal size."""
    return stick_gb * 10**7 * ROOM


def media_facts(media: Media | None, release: str, carry_over: str) -> dict[str, FactValue]:
    """What the gates may ask of the media and of the upgrade itself; the media's are unread if there is none."""
    facts: dict[str, FactValue] = {"upgrade.release": release, "upgrade.carry_over": carry_over}
    if media is not None:
        facts |= {
            "media.release": media.release,
            "media.editions": frozenset(media.editions),
            "media.arch": media.arch,
            "media.language": media.language,
            "media.table": media.table,
            "media.verified": media.verified,
        }
        stick = media.stick_gb or media.needs_gb
        facts["media.spare_mib"] = (room_on(stick) - media.size) // 2**20
    return facts


class Need(Struct, frozen=True):
    """What a device needs of its media; an empty word is unread."""

    device: str
    site: str
    edition: str
    language: str
    arch: str


def fitting(media: Iterable[Media], release: str, need: Need, today: date) -> Media | None:
    """The media that fits a device best, as a plan chooses it: of its base language first; None if none fits.

    One in another language fits only if files are carried over, which a gate asks.
    """
    found = [m for m in media if m.release == release and m.arch == need.arch and need.edition in m.editions]
    return min(_best_first(found, today), key=lambda m: m.language != need.language, default=None)


def _best_first(media: Iterable[Media], today: date) -> list[Media]:
    """Sound ones before others, then those with most editions, then the newest: for kits and for plans."""
    newest = sorted(media, key=lambda m: m.id, reverse=True)
    return sorted(newest, key=lambda m: (bool(m.defects(today)), -len(m.editions)))


# ------------------------------------------------------------------------ plan


class MediaUse(Struct, frozen=True):
    """One media of a plan: whom it serves, and the sticks to make of it, by site."""

    media: Media
    devices: tuple[str, ...]
    sticks: Mapping[str, int]
    stick_gb: int
    defects: tuple[str, ...]


class Mismatch(Struct, frozen=True):
    """Devices that no media on record serves, and why."""

    devices: tuple[str, ...]
    why: str
    hint: str


class MediaPlan(Struct, frozen=True):
    release: str
    uses: tuple[MediaUse, ...]
    mismatches: tuple[Mismatch, ...]


def media_plan(
    media: Sequence[Media],
    release: str,
    needs: Sequence[Need],
    today: date,
    sticks_per_site: int = 1,
    left_out: Sequence[Mismatch] = (),
) -> MediaPlan:
    """The fewest media that serve every device that can be served; whom none serves is named with the reason.

    Devices of one language and architecture can share a media if their editions are on it, so the choice falls into
    one small cover per language and architecture, which is tried out in full.
    """
    groups: dict[tuple[str, str], list[Need]] = {}
    mismatches = list(left_out)
    for need in sorted(needs, key=lambda n: n.device):
        if missing := [word for word in ("edition", "language", "arch") if not getattr(need, word)]:
            names = {"edition": "os.edition", "language": "os.base_language", "arch": "cpu.arch"}
            unread = " and ".join(names[word] for word in missing)
            mismatches.append(Mismatch((need.device,), f"{unread} is unread", "Read the device"))
            continue
        groups.setdefault((need.language, need.arch), []).append(need)
    uses: dict[str, tuple[Media, list[Need]]] = {}
    for (language, arch), members in sorted(groups.items()):
        here = [m for m in media if m.release == release and m.language == language and m.arch == arch]
        covered = _fewest(here, {n.edition for n in members}, today)
        for need in members:
            one = next((m for m in covered if need.edition in m.editions), None)
            if one is None:
                mismatches.append(_mismatch(media, release, need, today))
            else:
                uses.setdefault(one.id, (one, []))[1].append(need)
    made = [_use(one, members, today, sticks_per_site) for one, members in uses.values()]
    return MediaPlan(release, tuple(sorted(made, key=lambda use: use.media.id)), _together(mismatches))


def shared_media(media: Sequence[Media], release: str, needs: Iterable[Need], today: date) -> dict[str, Media]:
    """Device -> its media, so that these devices together need the fewest. Devices that none serves are left out."""
    groups: dict[tuple[str, str], list[Need]] = {}
    for need in needs:
        groups.setdefault((need.language, need.arch), []).append(need)
    found = {}
    for (language, arch), members in groups.items():
        here = [m for m in media if m.release == release and m.language == language and m.arch == arch]
        covered = _fewest(here, {need.edition for need in members}, today)
        for need in members:
            if (one := next((m for m in covered if need.edition in m.editions), None)) is not None:
                found[need.device] = one
    return found


def _fewest(media: Sequence[Media], editions: set[str], today: date) -> tuple[Media, ...]:
    """The fewest media with as many of the editions as can be had, the best first."""
    useful: list[Media] = []
    for one in _best_first(media, today):  # of those with the same editions only the first can be wanted
        if not any(editions & set(one.editions) <= set(held.editions) for held in useful):
            useful.append(one)
    can = editions & {edition for one in useful for edition in one.editions}
    for size in range(1, len(can) + 1):
        for chosen in combinations(useful, size):
            if can <= {edition for one in chosen for edition in one.editions}:
                return chosen
    return ()


def _use(media: Media, members: Sequence[Need], today: date, sticks_per_site: int) -> MediaUse:
    sites = sorted({need.site or "no site" for need in members})
    sticks = dict.fromkeys(sites, sticks_per_site)
    defects = list(media.defects(today))
    if not media.needs_gb:
        defects.append("no usual stick holds it")
    return MediaUse(media, tuple(n.device for n in members), sticks, media.needs_gb, tuple(defects))


def _mismatch(media: Sequence[Media], release: str, need: Need, today: date) -> Mismatch:
    """Why no media serves a device: the nearest one and what it lacks."""
    of_release = [m for m in media if m.release == release]
    device = (need.device,)
    if not of_release:
        older = next((m for m in media if m.asked == release), None)
        why = f"{older.id} holds {older.release}, not {release}" if older else f"no media holds {release}"
        return Mismatch(device, why, "Have it made again" if older else "Record one: doorstone media add")
    same_arch = [m for m in of_release if m.arch == need.arch]
    if not same_arch:
        return Mismatch(device, f"no media of {release} is for {need.arch}", f"Have one made for {need.arch}")
    same_edition = [m for m in same_arch if need.edition in m.editions]
    if not same_edition:
        return Mismatch(device, f"no media of {release} has the {need.edition} edition", "Have one made with it")
    other = min(same_edition, key=lambda m: m.id)
    hint = f"Have one made in {need.language}, or carry over files only with {other.id} ({other.language})"
    return Mismatch(device, f"no media of {release} with {need.edition} is in {need.language}", hint)


def _together(mismatches: Sequence[Mismatch]) -> tuple[Mismatch, ...]:
    held: dict[tuple[str, str], list[str]] = {}
    for one in mismatches:
        held.setdefault((one.why, one.hint), []).extend(one.devices)
    return tuple(Mismatch(tuple(sorted(d)), why, hint) for (why, hint), d in sorted(held.items()))
