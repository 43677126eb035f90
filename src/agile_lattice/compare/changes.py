"""What a change of the intent means for its devices: other packets, other configuration."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from difflib import unified_diff

import msgspec

from agile_lattice.compare.equivalence import Verdict, between
from agile_lattice.dialects import render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.dialects.surfaces import lines_of
from agile_lattice.intent.model import Device, Network


class TextChange(msgspec.Struct, frozen=True):
    """How the configuration of some devices changes in one file: a unified diff, without its first two lines.

    Attributes:
        devices: Their names; all whose file changes in just this way.
        lines: Each begins with a blank, `+`, `-` or `@`.
    """

    devices: tuple[str, ...]
    file: str
    lines: tuple[str, ...]


class Change(msgspec.Struct, frozen=True):
    """What becomes different between two versions of an intent.

    Attributes:
        verdicts: Of every device that both have: whether each packet is treated the same.
        texts: Where configuration changes.
        come, gone: Names of devices that only the later, or only the earlier one has.
        refused: Names of devices that cannot be rendered, before or after; of their configuration nothing is said.
    """

    verdicts: tuple[Verdict, ...]
    texts: tuple[TextChange, ...]
    come: tuple[str, ...]
    gone: tuple[str, ...]
    refused: tuple[str, ...] = ()

    @property
    def felt(self) -> bool:
        """Whether some packet may notice: on a device that both have, or that comes or goes."""
        return bool(self.come or self.gone) or not all(each.same for each in self.verdicts)


def change(before: Network, after: Network, catalogue: Catalogue = BUILT_IN) -> Change:
    """Compare two versions of an intent.

    Args:
        before: The earlier one.
        after: The later one.
        catalogue: Where the later one's dialects are looked up.
    """
    earlier = {each.name: each for each in before.devices}
    later = {each.name: each for each in after.devices}
    texts: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    refused = []
    for name in dict.fromkeys([*earlier, *later]):
        try:
            old, new = (_texts(each.get(name), catalogue) for each in (earlier, later))
        except Refusals:
            refused.append(name)
            continue
        for each in _changed(old, new):
            texts.setdefault(each, []).append(name)
    return Change(
        tuple(between(device, later[name]) for name, device in earlier.items() if name in later),
        tuple(TextChange(tuple(names), file, lines) for (file, lines), names in texts.items()),
        tuple(name for name in later if name not in earlier),
        tuple(name for name in earlier if name not in later),
        tuple(refused),
    )


def _texts(device: Device | None, catalogue: Catalogue) -> dict[str, str]:
    return {} if device is None else {each.file: each.text for each in render_device(device, catalogue)}


def _changed(old: Mapping[str, str], new: Mapping[str, str]) -> Iterator[tuple[str, tuple[str, ...]]]:
    for file in dict.fromkeys([*old, *new]):
        here, there = (lines_of(each.get(file, "")) for each in (old, new))
        lines = tuple(unified_diff(here, there, lineterm="", n=2))[2:]
        if lines:
            yield file, lines
