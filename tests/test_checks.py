"""Every check speaks about its wrong example and is silent about its right one."""

from __future__ import annotations

import textwrap

import pytest

from agile_lattice.checks import RULEBOOK, Check, findings
from agile_lattice.intent.model import Network
from agile_lattice.notation.loading import loads


def network(body: str) -> Network:
    return loads("lattice: 1\ndevices:\n  quay:\n    speaks: [iproute2, nftables]\n" + textwrap.indent(body, "    "))


@pytest.mark.parametrize("check", RULEBOOK.values(), ids=RULEBOOK)
def test_a_check_knows_wrong_from_right(check: Check) -> None:
    found = findings(network(check.wrong))
    assert {each.slug for each in found} == {check.slug}
    assert found[0].place.line >= 5
    assert found[0].what and found[0].remedy.endswith(".")
    assert findings(network(check.right)) == []
