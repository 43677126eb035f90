"""What a statement could be about that was not understood: what other statements of its block are about."""

from __future__ import annotations

from collections.abc import Sequence

from agile_lattice.dialects.dialect import Block
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import SECTIONS, Section
from agile_lattice.intent.stages import Stage

LISTS = frozenset({"rule", "permit", "access"})
WORDS = 2  # that two statements begin with, if they are about the same

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
    makers = [each for each in block.phrases if each.makes is not None]
    alike = [each for each in makers if _beginning(each.text) == _beginning(statement.text)]
    if statement.children is not None or not (alike or (inside and makers)):
        return tuple(carried), None, False
    makers = alike or makers
    kinds = {each.kind for each in makers}
    sections = {FACTS[kind].section for kind in kinds}
    if None in sections:  # a name that others use
        return tuple(carried), None, False
    stages = {each.constants.get("stage") for each in makers}
    stage = stages.pop() if len(stages) == 1 and kinds == {"rule"} else None
    ordered = in_order and kinds <= LISTS and (inside or bool(alike))
    return tuple(each for each in SECTIONS if each in sections), stage, ordered


def _beginning(text: str) -> tuple[str, ...]:
    return tuple(text.split()[:WORDS])
