"""What a device is doing, as text."""

from __future__ import annotations

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.observe.flows import InUse
from agile_lattice.observe.observing import Observed
from agile_lattice.show.terminal import Text, plural

MOST = 40  # translations in use that are shown


def show_observed(console: Console, one: Observed) -> None:
    """Print rules with their hits, translations in use, pools, and neighbours that do not answer."""
    _table(console, ("rule", "", "hits", "on the device"), [
        (Text(each.rule), Text(each.kind, "place"), _count(each.count), Text(str(each.place), "place"))
        for each in one.hits
    ])  # fmt: skip
    _table(console, ("translation in use", "seen by the other end as", "made by"), [
        (Text(_flow(each, False)), Text(_flow(each, True)), _made(each)) for each in one.in_use[:MOST]
    ])  # fmt: skip
    if len(one.in_use) > MOST:
        console.print(Text(f"and {len(one.in_use) - MOST} more", style="remedy"))
    for pool in one.pools:
        style = "strong" if pool.used >= pool.size else "head"
        console.print(
            Text(
                f"pool of {pool.translation}: {pool.used} of {plural(pool.size, 'address', 'addresses')} in use", style
            )
        )
    for silent in one.silent:
        routes = f": it is the next hop of {', '.join(map(str, silent.routes))}" if silent.routes else ""
        console.print(Text(f"{silent.address} on {silent.interface} does not answer{routes}", style="strong"))
    for port in one.interfaces:
        if port.wanted and not port.carrier:
            console.print(Text(f"{port.name} has no carrier", style="strong"))
        errors = [plural(count, "packet") + words for count, words in (
            (port.received_errors, " received wrong"), (port.sent_errors, " not sent")) if count]  # fmt: skip
        if errors:
            console.print(Text(f"{port.name}: {' and '.join(errors)}", style="strong"))
    never = sum(each.count == 0 for each in one.hits)
    uncounted = sum(each.count is None for each in one.hits)
    words = [plural(len(one.hits), "rule"), f"{never} never hit"] + ([f"{uncounted} not counted"] if uncounted else [])
    words.append(f"{plural(len(one.in_use), 'translation')} in use")
    if outlived := sum(each.outlives for each in one.in_use):
        words.append(f"{outlived} of a rule that is not there any more")
    if wanted := [each for each in one.interfaces if each.wanted]:
        words.append(f"{sum(each.carrier for each in wanted)} of {plural(len(wanted), 'interface')} with carrier")
    console.print(Text(f"{one.device}: {', '.join(words)}", style="head"))
    if one.unasked:
        console.print(Text(f"not asked: {', '.join(one.unasked)} (no dialect says how)", style="remedy"))


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
    if count is None:
        return Text("not counted", "place")
    return Text(str(count), "head") if count else Text("never", "strong")


def _flow(one: InUse, other_end: bool) -> str:
    header = one.seen if other_end else one.sent
    port = f":{header.source_port}" if header.source_port is not None else ""
    service = f"{header.protocol}/{header.port}" if header.port is not None else header.protocol
    return f"{header.source}{port} -> {header.destination} {service}"


def _made(one: InUse) -> Text:
    return Text("no rule any more", "strong") if one.outlives else Text("; ".join(one.rules))
