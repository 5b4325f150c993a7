"""Set-up media: recorded, verified, withdrawn; which fits a device; the plan of a batch; what they do to a kit."""

from __future__ import annotations

import hashlib
import json
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from doorstone.cli.media import sha256_of
from doorstone.core.media import Media, Need, fits, fitting, media_plan
from doorstone.demo.media import MEDIA
from doorstone.work import media
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, MissingError, RefusedError
from doorstone.work.kits import kits
from tests.asking import PETRA, line, read
from tests.build import GOOD, TODAY

TEN, DUTCH = MEDIA[0], MEDIA[1]


def refused(context: Context, device: str, **how: Any) -> list[tuple[str, str]]:
    with pytest.raises(RefusedError) as error:
        kits.make_kit(
            context, PETRA, device, "9.1", how.pop("route", "in-place"), how.pop("carry", "everything"), **how
        )
    return [(entry.pointer, entry.detail) for entry in error.value.errors]


# ------------------------------------------------------------------ recording


def test_a_digest_that_is_not_the_published_one_is_refused(context: Context) -> None:
    with pytest.raises(RefusedError, match="not the published one"):
        media.add_media(context, PETRA, replace(TEN, published_sha256="0" * 64))
    assert [view.id for view in media.list_media(context)] == ["MD-0001"]


@pytest.mark.parametrize(
    ("change", "error", "message"),
    [
        ({"release": "9.9"}, MissingError, "no release '9.9'"),
        ({"editions": ("palace",)}, BadInputError, "no edition 'palace'"),
        ({"sha256": "abc"}, BadInputError, "sha256 is no SHA-256"),
        ({"platform": "moss"}, MissingError, "no platform 'moss'"),
    ],
)
def test_what_cannot_be_recorded_is_named(
    context: Context, change: dict[str, Any], error: type[Exception], message: str
) -> None:
    with pytest.raises(error, match=message):
        media.add_media(context, PETRA, replace(TEN, **change))


def test_verification_comes_later_if_the_published_digest_does(context: Context) -> None:
    unsure = media.add_media(context, PETRA, MEDIA[3])
    assert unsure.defects == ("its SHA-256 is not verified", "its link expired on 2026-12-31: ask for it again")
    with pytest.raises(RefusedError, match="another SHA-256"):
        media.verify_media(context, PETRA, unsure.id, "f" * 64)
    assert media.verify_media(context, PETRA, unsure.id, unsure.row.sha256.upper()).defects == ()


def test_the_digest_of_a_file_is_computed_in_pieces(tmp_path: Path) -> None:
    image = tmp_path / "tarn.img"
    image.write_bytes(b"stone" * 700_000)
    assert sha256_of(image, quiet=True) == (hashlib.sha256(b"stone" * 700_000).hexdigest(), 3_500_000)


# ----------------------------------------------------------------- into a kit


def test_a_kit_takes_the_media_that_fits_and_says_so(context: Context) -> None:
    media.add_media(context, PETRA, DUTCH)
    read(context, line("d1", GOOD), line("d2", {**GOOD, "os.base_language": "nl"}))
    one = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    other = kits.make_kit(context, PETRA, "d2", "9.1", "in-place", "everything")
    assert (one.row.media, other.row.media) == ("MD-0001", "MD-0002")
    text = {file.path: file.text for file in other.files}
    assert "- [ ] Take MD-0002: Tarn Desktop 9.1 (desk), nl, x86-64." in text["runbook.md"]
    assert json.loads(text["manifest.json"])["media"] == {"id": "MD-0002", "sha256": DUTCH.sha256}


def test_situation_9_the_base_language_decides_not_the_displayed_one(context: Context) -> None:
    read(context, line("d1", {**GOOD, "os.base_language": "nl", "os.display_language": "en"}))
    assert refused(context, "d1") == [
        (
            "d1, base-language",
            "Base language equals the media's, or files only are carried over:"
            " os.base_language nl; upgrade.carry_over everything",
        )
    ]
    made = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "files")
    assert (made.row.carry_over, made.row.media) == ("files", "MD-0001")


def test_situation_10_media_that_hold_an_older_release_stop_a_kit(context: Context) -> None:
    older = media.add_media(context, PETRA, replace(MEDIA[2], language="en"))
    assert older.defects == ("it holds 9.0, though 9.1 was asked for",)
    read(context, line("d1", GOOD))
    assert refused(context, "d1", media=older.id) == [
        ("d1, media-release", "The media holds the release: media.release 9.0")
    ]
    with pytest.raises(MissingError, match="no media 'MD-0099'"):
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything", media="MD-0099")


def test_with_no_media_on_record_the_gates_are_unread(context: Context) -> None:
    read(context, line("d1", GOOD))
    media.withdraw_media(context, PETRA, "MD-0001", "The stick is lost.")
    unread = [g.gate.id for g in kits.device_gates(context, "d1", "in-place", "9.1") if g.result == "unread"]
    assert unread == ["media-release", "media-verified", "media-edition", "media-arch", "base-language", "media-fits"]


def test_a_kit_whose_media_was_withdrawn_is_no_longer_handed_out(context: Context) -> None:
    read(context, line("d1", GOOD))
    made = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    media.withdraw_media(context, PETRA, "MD-0001", "The stick is lost.")
    assert kits.get_kit(context, made.id).standing.reasons == ("MD-0001 was withdrawn: The stick is lost.",)


def test_devices_in_two_languages_are_two_cases(context: Context) -> None:
    media.add_media(context, PETRA, DUTCH)
    read(context, line("d1", GOOD), line("d2", {**GOOD, "os.base_language": "nl"}))
    assert refused(context, ("d1", "d2")) == [  # type: ignore[arg-type]
        ("d1", "it needs no override, from MD-0001"),
        ("d2", "it needs no override, from MD-0002"),
    ]


def test_situation_38_settings_for_afterwards_are_chosen_per_kit(context: Context) -> None:
    read(context, line("d1", {**GOOD, "disk.encrypted": True}))
    sets = [(one.id, one.in_place) for one in kits.device_sets(context, "d1")]
    assert sets == [("quiet-start", "not-stated"), ("locked-disk", "in-place")]
    plain = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything")
    assert not [file.path for file in plain.files if file.path.startswith("after")]
    made = kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything", sets=["quiet-start"])
    text = {file.path: file.text for file in made.files}
    assert text["after/system.ini"].splitlines()[1:] == ["[account]", "ask-again = false", "[start]", "offers = false"]
    assert {"after-apply", "after-undo", "after-verify"} <= set(text)
    assert "- [ ] Northmere's start-up settings: No offers at sign-in" in text["runbook.md"]
    with pytest.raises(BadInputError, match="no settings set 'loud-start'"):
        kits.make_kit(context, PETRA, "d1", "9.1", "in-place", "everything", sets=["loud-start"])


# ----------------------------------------------------------------------- plan


def held(name: str, language: str = "en", arch: str = "x86-64", editions: str = "desk estate", **more: Any) -> Media:
    made = Media(
        name, "tarn", "9.1", "9.1", tuple(editions.split()), language, arch, 6 * 10**9, "a" * 64, verified=True
    )
    return replace(made, **more)


def test_situation_37_the_fewest_media_for_languages_editions_and_architectures() -> None:
    media_on_record = [
        held("MD-0001"),
        held("MD-0002", editions="desk"),
        held("MD-0003", "nl", editions="desk"),
        held("MD-0004", "nl", editions="estate"),
        held("MD-0005", "de", verified=False, link_ends=date(2026, 12, 31)),
        held("MD-0006", arch="arm64", size=20 * 10**9),
    ]
    needs = [
        Need("d1", "Herbarium", "desk", "en", "x86-64"),
        Need("d2", "Glasshouse", "estate", "en", "x86-64"),
        Need("d3", "Herbarium", "desk", "nl", "x86-64"),
        Need("d4", "Herbarium", "estate", "nl", "x86-64"),
        Need("d5", "", "desk", "de", "x86-64"),
        Need("d6", "Herbarium", "desk", "en", "arm64"),
        Need("d7", "Herbarium", "desk", "cy", "x86-64"),
        Need("d8", "Herbarium", "palace", "en", "x86-64"),
        Need("d9", "Herbarium", "desk", "", "x86-64"),
    ]
    plan = media_plan(media_on_record, "9.1", needs, TODAY, 2)
    assert [(use.media.id, use.devices, dict(use.sticks), use.stick_gb) for use in plan.uses] == [
        ("MD-0001", ("d1", "d2"), {"Glasshouse": 2, "Herbarium": 2}, 8),
        ("MD-0003", ("d3",), {"Herbarium": 2}, 8),
        ("MD-0004", ("d4",), {"Herbarium": 2}, 8),
        ("MD-0005", ("d5",), {"no site": 2}, 8),
        ("MD-0006", ("d6",), {"Herbarium": 2}, 32),
    ]
    assert plan.uses[3].defects == ("its SHA-256 is not verified", "its link expired on 2026-12-31: ask for it again")
    assert [(m.devices, m.why) for m in plan.mismatches] == [
        (("d8",), "no media of 9.1 has the palace edition"),
        (("d7",), "no media of 9.1 with desk is in cy"),
        (("d9",), "os.base_language is unread"),
    ]


def test_an_older_release_than_asked_is_named_in_the_plan() -> None:
    older = held("MD-0007", release="9.0")
    plan = media_plan([older], "9.1", [Need("d1", "", "desk", "en", "x86-64")], TODAY)
    assert [(m.why, m.hint) for m in plan.mismatches] == [("MD-0007 holds 9.0, not 9.1", "Have it made again")]


def test_a_stick_loses_some_of_its_size_to_its_file_system() -> None:
    assert fits(7_440_000_000, 8)
    assert not fits(7_440_000_001, 8)
    assert held("MD-0001", size=7_440_000_001).needs_gb == 16
    assert held("MD-0001", size=10**12).needs_gb == 0


words = st.sampled_from(["en", "nl", "de"])
records = st.lists(
    st.builds(
        lambda at, language, editions, verified: held(
            f"MD-{at:04d}", language, editions=" ".join(sorted(editions)), verified=verified
        ),
        st.integers(1, 99), words, st.sets(st.sampled_from(["desk", "estate", "hall"]), min_size=1), st.booleans(),
    ),
    max_size=7, unique_by=lambda m: m.id,
)  # fmt: skip
wanted = st.lists(st.tuples(words, st.sampled_from(["desk", "estate", "hall"])), max_size=8)


@given(records, wanted)
def test_every_device_is_served_by_what_fits_it_or_is_named(media_on_record: list[Media], pairs: list[Any]) -> None:
    needs = [Need(f"d{at}", "x", edition, language, "x86-64") for at, (language, edition) in enumerate(pairs)]
    plan = media_plan(media_on_record, "9.1", needs, TODAY)
    by_id = {need.device: need for need in needs}
    for use in plan.uses:
        for device in use.devices:
            assert (use.media.language, by_id[device].edition in use.media.editions) == (by_id[device].language, True)
    served = [device for use in plan.uses for device in use.devices]
    named = [device for one in plan.mismatches for device in one.devices]
    assert sorted(served + named) == sorted(by_id)
    for device in named:
        best = fitting(media_on_record, "9.1", by_id[device], TODAY)
        assert best is None or best.language != by_id[device].language
