"""The address plan as text: one table for each block and subnet."""

from __future__ import annotations

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.intent.addresses import AddressSet, spell_range, spell_value
from agile_lattice.packets.spans import Span
from agile_lattice.plan.usage import Plan, rows
from agile_lattice.show.terminal import Text, plural

STYLES = {"spare": "calm", "reserved": "strong"}


def show_plan(console: Console, plan: Plan, run: int) -> None:
    """Print a plan: a heading, and what each address is for.

    Args:
        console: Where to.
        plan: The plan.
        run: How many addresses in a row somebody is looking for.
    """
    console.print(Text.assemble((f"{plan.prefix}", "head"), f"  {plan.name}"))
    console.print(Text(_left(plan, run), style="remedy"))
    table = Table(box=box.SIMPLE, pad_edge=False, show_header=False, padding=(0, 2, 0, 0))
    found = list(rows(plan))
    widest = max((len(_spelt(plan, span)) for span, _ in found), default=0)
    table.add_column(min_width=min(widest, console.width // 2), overflow="fold")
    for _ in range(4):
        table.add_column(overflow="fold")
    for span, use in found:
        kind = use.kind if use is not None else "spare"
        count = span[1] - span[0] + 1
        table.add_row(
            _spelt(plan, span),
            "" if count == 1 else str(count) if count < 10**6 else f"{count:.1e}",
            Text(kind, style=STYLES.get(kind, "")),
            use.holder if use is not None else "",
            Text.assemble(use.what, "  " * bool(use.what), (str(use.place), "place")) if use is not None else "",
        )
    console.print(table)


def _left(plan: Plan, run: int) -> str:
    total = 1 << plan.prefix.host_bits
    if not plan.left:
        return f"{plural(total, 'address', 'addresses')}, none left"
    free, several = plan.next_free(), plan.next_free(run)
    text = f"{plural(total, 'address', 'addresses') if total < 10**6 else f'{total:.1e} addresses'},"
    text += f" {plan.left if plan.left < 10**6 else f'{plan.left:.1e}'} left; next free {free}"
    if run > 1:
        text += f", {run} in a row: {_range(several) if several else 'none'}"
    return text


def _spelt(plan: Plan, span: Span) -> str:
    """Write a span; the long end of an IPv6 subnet goes without saying."""
    if plan.prefix.family == 6 and span[0] < span[1] == plan.prefix.last:
        return f"{spell_value(6, span[0])} and on"
    return spell_range(plan.prefix.family, span)


def _range(addresses: AddressSet) -> str:
    return spell_range(addresses.family, addresses.spans[0])
