"""What is said of all packets, held against an independent semantics of single ones."""

from __future__ import annotations

from collections import Counter

from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from agile_lattice.intent.model import Device
from soundness import judge, pairs
from test_laws import MANY
from where import examples


def test_no_packet_refutes_what_is_said_of_two_devices() -> None:
    counts: Counter[str] = Counter()

    # What fails is shown as it was found: to make it smaller takes many times as long as to find it.
    @settings(MANY, max_examples=examples(140), phases=[Phase.explicit, Phase.generate])
    @given(pairs(), st.integers(0, 2**32))
    def look(pair: tuple[Device, Device], seed: int) -> None:
        assert judge(*pair, seed, counts) == []

    look()
    print(dict(counts))
    assert counts["differ"] > 1 and counts["same"] > 1, "some of each: which ones, the generator chooses"
    assert counts["not decided, though all is worked out"] <= 0.01 * counts["same"]
