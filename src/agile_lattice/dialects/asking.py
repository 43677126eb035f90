"""What a running system is asked about what it does, and what the lines of its answers tell."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Literal

import msgspec

from agile_lattice.dialects.expressions import checked
from agile_lattice.dialects.surfaces import lines_of

What = Literal["translations", "neighbours", "interfaces", "hits"]
# What a line tells: all of the first, or it is none of these lines, and as many of the second as it has.
TOLD: Mapping[What, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "translations": (
        ("protocol", "source", "destination", "back_source", "back_destination"),
        ("source_port", "port", "back_source_port", "back_port"),
    ),
    "neighbours": (("address", "interface", "failed"), ()),
    "interfaces": (("interface",), ("carrier", "received_errors", "sent_errors")),
    "hits": (("line", "count"), ()),
}
NUMBERS = frozenset(
    {"source_port", "port", "back_source_port", "back_port", "received_errors", "sent_errors", "line", "count"}
)
MOST = 2000  # characters of a line that are looked at
GROUP = re.compile(r"(?<!\\)\((?!\?)")


class Asked(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A question, and how the answer is read.

    Attributes:
        ask: The command; over RESTCONF the resource: each entry of its lists is a line then, of names and values.
        tells: What a line tells, each as a regular expression with a group: of `translations` the packet as it was
            sent, and the reply to it; of `neighbours` one that failed to answer; of `interfaces` each one; of `hits`
            how often the rule was hit that begins at a line of the captured text.
    """

    ask: str
    tells: dict[str, str]

    def check(self, what: What) -> None:
        """Make sure that the expressions can be used, and are those that are needed.

        Raises:
            ValueError: If they are not.
        """
        needed, more = TOLD[what]
        words = f"it needs {', '.join(needed)}" + (f", and may have {', '.join(more)}" if more else "")
        for name in self.tells:
            if name not in (*needed, *more):
                raise ValueError(f"`{what}` does not tell {name!r}: {words}")
        for name in needed:
            if name not in self.tells:
                raise ValueError(f"`{what}` has to tell {name!r}, too: {words}")
        for expression in self.tells.values():
            checked(GROUP.sub("(?:", expression, count=1))
            if re.compile(expression).groups != 1:
                raise ValueError(f"{expression!r} needs a group, in ( and ), for what it tells")

    def read(self, what: What, answer: str) -> Iterator[dict[str, str]]:
        """Yield what the lines of an answer tell; what has to be a number and is none is not told."""
        needed, _ = TOLD[what]
        patterns = {name: re.compile(each) for name, each in self.tells.items()}
        for line in lines_of(answer):
            found = {name: each.search(line[:MOST]) for name, each in patterns.items()}
            told = {name: match[1] for name, match in found.items() if match is not None and match[1]}
            told = {name: text for name, text in told.items() if name not in NUMBERS or text.isdecimal()}
            if all(name in told for name in needed):
                yield told
