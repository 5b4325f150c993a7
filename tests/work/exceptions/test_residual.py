"""Residual risk in use: it orders the register, falls with each condition kept, and may ask for a second approver."""

from __future__ import annotations

from msgspec.structs import replace

from doorstone.core.exceptions.residual import RiskTable
from doorstone.work.context.context import Context, Policy
from doorstone.work.exceptions import activity, register, requests
from tests.asking import PETRA, D, asked, granted, line, on, read
from tests.build import CHIPLESS, GOOD

PUBLIC = {"exposure.network": "public", "exposure.data": "personal"}


def points(context: Context, name: str) -> int:
    return requests.get_exception(context, name).residual.points


def test_it_orders_the_register_and_follows_readings_and_conditions(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, **PUBLIC}), line("d2", {**GOOD, "disk.system_gib": 29}),
         line("d3", {**CHIPLESS, "exposure.network": "isolated", "exposure.data": "none"}))  # fmt: skip
    public, disk = granted(context, "d1"), granted(context, "d2", requirements=("storage",))
    assert points(context, public) == 2 + 6 + 4 + 4  # nobody has said yet that its condition is kept
    assert points(context, disk) == 2 + 2 + 2
    isolated = granted(context, "d3")
    assert points(context, isolated) == 2 + 6 + 0 + 0
    listed = requests.list_exceptions(context, by_risk=True)
    assert [view.id for view in listed] == [public, isolated, disk]
    assert [row["residual risk"] for row in register.rows(context)] == [16, 8, 6]
    late = on(context, "2027-03-05")
    read(late, *(line(name, facts, "2027-03-04T08:00:00") for name, facts in (("d1", {**CHIPLESS, **PUBLIC}),)))
    assert points(late, public) == 16  # the condition is overdue and takes nothing off
    activity.attest(late, PETRA, public, 1, "The cupboard is locked.")
    assert points(late, public) == 15


def test_from_so_many_points_on_two_have_to_approve(context: Context) -> None:
    read(context, line("d1", {**CHIPLESS, **PUBLIC}), line("d2", {**GOOD, "disk.system_gib": 29}))
    careful = Context(context.database, context.clock, Policy(risk=replace(RiskTable(), two_approvers=12)))
    risky = requests.request(careful, PETRA, asked("d1"))
    plain = requests.request(careful, PETRA, asked("d2", requirements=("storage",)))
    assert (risky.row.approvals_needed, plain.row.approvals_needed) == (2, 1)
    assert granted(careful, "d2", requirements=("storage",), expires_on=D("2027-08-31"))
