"""Every check speaks about its wrong example and is silent about its right one."""

from __future__ import annotations

import pytest

from agile_lattice.checks import RULEBOOK, Check, example_intent, findings
from agile_lattice.notation.errors import NotationError
from agile_lattice.notation.loading import loads


@pytest.mark.parametrize("check", RULEBOOK.values(), ids=RULEBOOK)
def test_a_check_knows_wrong_from_right(check: Check) -> None:
    assert findings(loads(example_intent(check.right))) == []
    if check.theme == "values":
        with pytest.raises(NotationError) as caught:
            loads(example_intent(check.wrong))
        assert {fault.slug for fault in caught.value.faults} == {check.slug}
        return
    found = findings(loads(example_intent(check.wrong)))
    assert {(each.slug, each.severity) for each in found} == {(check.slug, check.severity)}
    assert found[0].place.line >= 2
    assert found[0].what and found[0].subject and found[0].remedy.endswith(".")
