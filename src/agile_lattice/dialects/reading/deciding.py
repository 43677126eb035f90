"""What a statement could be about that was not understood: what other statements of its block are about."""

from __future__ import annotations

from collections.abc import Sequence

from agile_lattice.dialects.dialect import FIRST_WORDS, Block
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import SECTIONS, Section
from agile_lattice.intent.stages import Stage

LISTS = frozenset({"rule", "permit", "access"})
LONGEST = 200  # characters in which the first words of a statement are looked for

Could = tuple[tuple[Section, ...], Stage | None, bool]
ANYTHING: Could = (SECTIONS, None, False)


def could_be_about(
    statement: Statement, block: Block, carried: Sequence[Section], inside: bool, in_order: bool
) -> Could:
    """Tell what a statement could be about.

    Args:
        statement: The statement, which no phrase of the block understands.
        block: The phrases among which it was looked for.
        carried: The sections that the whole text speaks of.
        inside: Whether the block stands inside another statement, which was understood.
        in_order: Whether of the rules of a list the first that matches decides.

    Returns:
        The sections; the one list of translations, if it can be only one; and whether it is a rule in a list, so that
        those before it decide first.
    """
    alike = block.makers.get(tuple(statement.text[:LONGEST].split()[:FIRST_WORDS]), ())
    makers = alike or (block.makers[()] if inside else ())
    if statement.children is not None or not makers:
        return tuple(carried), None, False
    kinds = {kind for each in makers for kind in each.kinds}
    sections = {FACTS[kind].section for kind in kinds}
    if None in sections:  # a name that others use
        return tuple(carried), None, False
    stages = {each.constants.get("stage") for each in makers}
    stage = stages.pop() if len(stages) == 1 and kinds == {"rule"} else None
    ordered = in_order and kinds <= LISTS and (inside or bool(alike))
    return tuple(each for each in SECTIONS if each in sections), stage, ordered
