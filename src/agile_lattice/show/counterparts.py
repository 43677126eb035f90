"""Rules by what they do, as text: for each rule of the intent the lines of the device, and what else these do."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console, Group

from agile_lattice.compare.by_effect import SUBJECTS
from agile_lattice.compare.counterparts import Beyond, Counterpart, Counterparts, Standing
from agile_lattice.compare.pairs import Otherwise
from agile_lattice.show.terminal import Text, plural, roomy_table, source_text

STANDINGS: dict[Standing, tuple[str, str]] = {
    "same": ("same effect", "calm"),
    "partly": ("same effect for some packets", "strong"),
    "other": ("not the same effect", "strong"),
    "nothing": ("no packet comes to it", "calm"),
}
MOST = 4  # packets that are shown of one rule


def show_counterparts(console: Console, found: Counterparts) -> None:
    """Print rules held against each other by what they do."""
    table = roomy_table()
    table.add_column("rule of the intent", ratio=4)
    table.add_column("on the device", ratio=9)
    for one in found.rules:
        word, style = STANDINGS[one.standing]
        name = Text.assemble((f"{SUBJECTS[one.stage]} ", "head"), (one.name, "head"))
        what = Group(name, Text(one.does, style="intent"), Text(str(one.place), style="place"))
        strays = ", but for sources that do not belong there" if any(each.stray for each in one.otherwise) else ""
        others = [each for each in (*one.otherwise, *one.maybe) if not each.stray]
        unless = [Text(f"not certain: {one.unless}", "strong")] if one.unless else []
        said = Text.assemble((word, style), _by(one), strays, ("; not certain" if one.maybe else "", "strong"))
        table.add_row(what, Group(said, *unless, *_others(others)))
    for stage in SUBJECTS:
        beyond = [each for each in found.beyond if each.stage == stage and not each.packets.stray]
        if beyond:
            table.add_row(Group(Text("only on the device", style="head"), Text(SUBJECTS[stage])), _beyond(beyond))
    console.print(table)
    places = (each.packets.place for each in found.beyond if each.packets.stray and each.packets.place.line)
    if elsewhere := dict.fromkeys(map(str, places)):
        lines = ", ".join(elsewhere)
        console.print(
            Text(f"Only for sources that do not belong behind their ingress interface: {lines}", style="remedy")
        )
    for each in found.undecided:
        console.print(Text(f"Not decided: {each}", style="strong"))


def counterpart_rows(found: Counterparts) -> list[tuple[str, str, str, str, str]]:
    """Return rules by what they do as words: rule, what it does, on the device, lines there, what else happens."""
    rows = []
    for one in found.rules:
        others = [each for each in (*one.otherwise, *one.maybe) if not each.stray]
        said = STANDINGS[one.standing][0] + (f"; not certain: {one.unless}" if one.unless else "")
        said += "; not certain" if one.maybe and not one.unless else ""
        lines = ", ".join(each.told for each in one.same if each.line)
        rows.append((f"{SUBJECTS[one.stage]} {one.name}".rstrip(), one.does, said, lines, _in_words(others)))
    for each in found.beyond:
        if not each.packets.stray:
            rows.append(
                (SUBJECTS[each.stage], "", "only on the device", each.packets.place.told, _in_words([each.packets]))
            )
    rows += [("", "", f"not decided: {each}", "", "") for each in found.undecided]
    return rows


def _in_words(otherwise: Sequence[Otherwise]) -> str:
    shown = [
        f"{each.place.told}: {each.does}, {_packets(each)}"
        + f", depending on {', and on '.join(each.depends)}" * bool(each.depends)
        for each in otherwise[:MOST]
    ]
    return "\n".join([*shown, *([f"and {len(otherwise) - MOST} more"] if len(otherwise) > MOST else [])])


def counted(found: Counterparts) -> str:
    """Count the rules by what the device does, in words."""
    counts = [
        (sum(each.standing == standing for each in found.rules), word) for standing, (word, _) in STANDINGS.items()
    ]
    said = ", ".join(f"{count} {word}" for count, word in counts if count)
    open_ = sum(not each.certain for each in found.rules)
    said += f", {open_} of them not certain" if open_ else ""
    certain, maybe = (
        {
            each.packets.place.spot
            for each in found.beyond
            if not each.packets.stray and bool(each.packets.depends) is so
        }
        for so in (False, True)
    )
    maybe -= certain
    more = (
        f"; {plural(len(certain), 'line')} of the device {'does' if len(certain) == 1 else 'do'} more"
        if certain
        else ""
    )
    more += f"; {plural(len(maybe), 'line')} of the device may do more" if maybe else ""
    return f"{plural(len(found.rules), 'rule')} of the intent: {said or 'none'}{more}"


def _by(one: Counterpart) -> str:
    lines = [each.told for each in one.same if each.line]
    return f", by {' and '.join(lines)}" if lines else ""


def _others(otherwise: Sequence[Otherwise]) -> list[Text]:
    found = []
    for each in otherwise[:MOST]:
        line = source_text(each.place, 100) if each.place.line else None
        found.append(Text.assemble((f"{each.place.told}: " if each.place.line else "", "place"), (each.does, "device")))
        found += [Text.assemble("  ", line)] if line else []
        found.append(Text(f"  {_packets(each)}", style="remedy"))
        found += [Text(f"  depending on {', and on '.join(each.depends)}", style="strong")] if each.depends else []
    if len(otherwise) > MOST:
        found.append(Text(f"and {len(otherwise) - MOST} more", style="remedy"))
    return found


def _packets(one: Otherwise) -> str:
    more = f"; and {len(one.packets) - 2} more such pieces" if len(one.packets) > 2 else ""
    shown = "; ".join(map(str, one.packets[:2])) + more + f" {one.among}" * bool(one.among)
    # Addresses show of which family packets are.
    named = any(each.source or each.destination for each in one.packets)
    of = "" if one.family is None or named else f"IPv{one.family}: "
    return f"{of}{'at most ' * one.at_most}{shown}, for example {one.example}"


def _beyond(found: Sequence[Beyond]) -> Group:
    return Group(*_others([each.packets for each in found]))
