"""The command line of devices out of service: several at once, by site, all or none, and back."""

from __future__ import annotations

from tests.running import Run, data

LIST = ("device", "lives", "--format", "json")


def test_devices_are_set_aside_retired_replaced_and_brought_back(run: Run) -> None:
    assert [(d["device"], d["life"]) for d in data(run(*LIST, by="odile"))] == [
        ("nbt-193", "set-aside"), ("nbt-194", "retired"), ("nbt-195", "replaced"),
    ]  # fmt: skip
    before = len(data(run("device", "list", "-p", "tarn", "--format", "json", by="odile")))
    aside = (
        "device",
        "set-aside",
        "nbt-101",
        "nbt-050",
        "--reason",
        "They wait for new fans.",
        "--look-on",
        "2027-02-01",
    )
    assert [one["leaves"] for one in data(run(*aside, "--format", "json", by="petra"))] == [[], []]
    retire = ("device", "retire", "nbt-101", "nbt-120", "--reason", "Their boards are broken.", "--format", "json")
    told = data(run(*retire, "-n", by="petra"))
    assert told == data(run(*retire, by="petra"))
    assert [(one["device"], one["was"], one["ends"], one["leaves"]) for one in told] == [
        ("nbt-101", "set-aside", [], ["EX-0001", "EX-0007"]), ("nbt-120", "in-service", [], []),
    ]  # fmt: skip
    assert len(data(run("device", "list", "-p", "tarn", "--format", "json", by="odile"))) == before - 3
    assert run("device", "wiped", "nbt-120", "--by", "petra", "--note", "Erased here.", by="petra").returncode == 0
    history = run("device", "lives", "nbt-120", "--format", "csv", by="odile").stdout.splitlines()
    assert [line.split(",")[1:3] for line in history[1:]] == [
        ["retired", "Their boards are broken."],
        ["retired", "Their boards are broken. Erased here."],
    ]
    shown = run("device", "show", "nbt-120", by="odile").stdout
    assert "Not in service: retired since 2027-01-18. Their boards are broken. Erased here." in shown
    back = run("device", "return", "nbt-050", "--reason", "The fan is in.", by="petra")
    assert (back.returncode, "nbt-050" in back.stdout) == (0, True)


def test_each_device_that_cannot_is_named_and_nothing_is_changed(run: Run) -> None:
    refused = run("device", "retire", "nbt-001", "nbt-194", "--reason", "All of the shelf.", by="petra")
    assert refused.returncode == 3
    assert "Nothing was changed" in refused.stderr
    assert "nbt-194: nbt-194 is retired already. Bring it back first, or leave it out" in refused.stderr
    assert len(data(run(*LIST, by="odile"))) == 3
    early = run("device", "set-aside", "nbt-001", "--reason", "Waits for a fan.", "--look-on", "2027-01-18", by="petra")
    assert (early.returncode, "Give look_on, a day to come" in early.stderr) == (4, True)
    assert run("device", "retire", "--reason", "Nothing named.", by="petra").returncode == 4
    assert run("device", "retire", "nbt-001", "--reason", "Not mine to do.", by="odile").returncode == 6


def test_a_site_that_closes_takes_all_that_stands_there_along(run: Run) -> None:
    at = [d["id"] for d in data(run("device", "list", "-p", "tarn", "--site", "Orrin Field Station", "--format", "json",
                                    by="odile"))]  # fmt: skip
    closed = (
        "device",
        "retire",
        "--site",
        "Orrin Field Station",
        "--reason",
        "The station closes.",
        "--format",
        "json",
    )
    assert {one["device"] for one in data(run(*closed, by="petra"))} >= set(at)
    left = run("device", "list", "-p", "tarn", "--site", "Orrin Field Station", "--format", "json", by="odile")
    assert data(left) == []


def test_the_readings_of_a_device_and_a_fact_over_time(run: Run) -> None:
    listed = ("device", "readings", "nbt-055")
    held = data(run(*listed, "--format", "json", by="odile"))
    assert [(one["taken_at"][:10], one["source"], len(one["facts"])) for one in held] == [
        ("2027-01-13", "collector", 16), ("2027-01-11", "assessor", 33), ("2026-08-11", "assessor", 33),
    ]  # fmt: skip
    table = run(*listed, "--fact", "memory.mib", by="odile").stdout
    assert [word in table for word in ("memory.mib", "8128", "4032")] == [True] * 3
    rows = run(*listed, "--fact", "memory.mib", "--most", "1", "--format", "csv", by="odile").stdout.splitlines()
    assert rows == ["taken_at,source,kind,name,value", "2027-01-13 08:24:00,collector,fact,memory.mib,8128"]
    assert "No reading holds memory.mob." in run(*listed, "--fact", "memory.mob", by="odile").stderr
    empty = run(*listed, "--fact", "memory.mob", "--format", "json", by="odile")
    assert (empty.stdout, "No reading holds memory.mob." in empty.stderr) == ("[]\n", True)
    words = run("device", "readings", "nbt-110", "--most", "1", "--format", "csv", by="odile").stdout.splitlines()[1:]
    assert [word.split(",")[2:] for word in words] == [
        ["verdict", "processor-listed", "fail"], ["verdict", "security-chip", "fail"],
    ]  # fmt: skip
    assert run("device", "readings", "nbt-999", by="odile").returncode == 5
