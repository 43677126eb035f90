"""The few things between facts and model that a table of phrases cannot say.

Each is a pair: `down` before rendering, `up` after reading. A dialect file names some (`named`); others follow from the
semantics that it states.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from agile_lattice.dialects.facts import Fact

Facts = dict[str, list[Fact]]


class Pass(msgspec.Struct, frozen=True):
    """Changes facts on their way.

    Attributes:
        down: From the model towards the text; the second argument is the dialect's name.
        up: From the text towards the model.
    """

    down: Callable[[Facts, str], Facts]
    up: Callable[[Facts], Facts]
