"""What a device is doing, as text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.show.terminal import Text, plural

if TYPE_CHECKING:
    from agile_lattice.observe.flows import InUse
    from agile_lattice.observe.observing import Observed, PoolUse

MOST = 40  # translations in use that are shown
FLOWS = ("translation in use", "seen by the other end as", "made by")


def show_observed(console: Console, one: Observed) -> None:
    """Print a summary, what fails, rules with their hits, and translations in use."""
    console.print(Text(f"{one.device}: {observed_words(one)}", style="strong" if one.cause else "head"))
    for words in failing(one):
        console.print(Text(words, style="strong"))
    for pool in one.pools:
        console.print(Text(pool_words(pool), "strong" if pool.used >= pool.size else "head"))
    for words in one.unasked:
        console.print(Text(f"not asked: {words}", style="remedy"))
    _table(console, ("rule", "", "hits", "on the device"), [
        (Text(each.rule), Text(each.kind, "place"), _count(each.count), Text(str(each.place), "place"))
        for each in one.hits
    ])  # fmt: skip
    _table(console, FLOWS, [
        (Text(sent), Text(seen), Text(made, "strong" if each.outlives else ""))
        for each in one.in_use[:MOST] for sent, seen, made in [flow_words(each)]
    ])  # fmt: skip
    if len(one.in_use) > MOST:
        console.print(Text(f"and {len(one.in_use) - MOST} more", style="remedy"))


def failing(one: Observed) -> Iterator[str]:
    """Yield what does not work, in words: neighbours without an answer, interfaces without carrier or with errors."""
    for silent in one.silent:
        routes = f": it is the next hop of {', '.join(map(str, silent.routes))}" if silent.routes else ""
        yield f"{silent.address} on {silent.interface} does not answer{routes}"
    for port in one.interfaces:
        if port.wanted and not port.carrier:
            yield f"{port.name} has no carrier"
        counted = ((port.received_errors, " received wrong"), (port.sent_errors, " not sent"))
        errors = [plural(count, "packet") + words for count, words in counted if count]
        if errors:
            yield f"{port.name}: {' and '.join(errors)}"


def observed_words(one: Observed) -> str:
    """Return what a device is doing, or why it could not be asked, in one line."""
    if one.cause:
        return f"not asked: {one.cause}{f' ({one.detail})' if one.detail else ''}"
    never = sum(each.count == 0 for each in one.hits)
    uncounted = sum(each.count is None for each in one.hits)
    words = [plural(len(one.hits), "rule") if one.hits else "no rules"]
    words += [f"{never} never hit"] if never else []
    words += [f"{uncounted} not counted"] if uncounted else []
    words += [f"{plural(len(one.in_use), 'translation')} in use"] if one.hits or one.in_use else []
    if outlived := sum(each.outlives for each in one.in_use):
        words.append(f"{outlived} of a rule that is not there any more")
    if wanted := [each for each in one.interfaces if each.wanted]:
        words.append(f"{sum(each.carrier for each in wanted)} of {plural(len(wanted), 'interface')} with carrier")
    return ", ".join(words)


def pool_words(pool: PoolUse) -> str:
    """Return how much of a pool is in use."""
    return f"pool of {pool.translation}: {pool.used} of {plural(pool.size, 'address', 'addresses')} in use"


def flow_words(one: InUse) -> tuple[str, str, str]:
    """Return a flow as it was sent, as the other end sees it, and the rules that make that of it."""
    return _flow(one, False), _flow(one, True), "no rule any more" if one.outlives else "; ".join(one.rules)


def count_words(count: int | None) -> str:
    """Return how often a rule was hit."""
    return "not counted" if count is None else str(count) if count else "never"


def _table(console: Console, heads: tuple[str, ...], rows: list[tuple[Text, ...]]) -> None:
    if not rows:
        return
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for name in heads:
        table.add_column(name, overflow="fold")
    for row in rows:
        table.add_row(*row)
    console.print(table)


def _count(count: int | None) -> Text:
    return Text(count_words(count), "place" if count is None else "head" if count else "strong")


def _flow(one: InUse, other_end: bool) -> str:
    header = one.seen if other_end else one.sent
    port = f":{header.source_port}" if header.source_port is not None else ""
    service = f"{header.protocol}/{header.port}" if header.port is not None else header.protocol
    return f"{header.source}{port} -> {header.destination} {service}"
