"""Permits that see the external address and port of a destination, before it is rewritten on arrival.

An intent's permits see the real ones. Going down, a permit for a real destination becomes one for each
external address that leads there, and itself for packets that are sent to the real address; coming up, the
former become what they stand for, and go where the latter says it already.
"""

from __future__ import annotations

from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Sides
from agile_lattice.packets.spans import Spans, covers, meet

ANYWHERE = "its permits see external addresses, and this names none"


def _arrivals(facts: Facts) -> list[Rule]:
    return [fact for fact in facts.get("rule", []) if isinstance(fact, Rule) and fact.stage == "arrival" and fact.to]


def _down(facts: Facts, dialect: str) -> Facts:
    rules = _arrivals(facts)
    passages: list[Fact] = []
    refusals = [
        Refusal(dialect, f"translation {rule.name}", "publish", rule.place.at("publish"), ANYWHERE)
        for rule in rules
        if rule.destination is None and facts.get("permit")
    ]
    if refusals:
        raise Refusals(refusals)
    for one in facts.get("permit", []):
        assert isinstance(one, Passage)
        for rule in rules:
            reason = _why_not(one, rule)
            if reason:
                place = one.place.at("destination")
                refusals.append(Refusal(dialect, f"permit {one.name}", "destination", place, reason))
            external = _external(one, rule)
            if external is not None:
                passages.append(external)
        passages.append(one)
    if refusals:
        raise Refusals(refusals)
    return {**facts, "permit": passages}


def _why_not(one: Passage, rule: Rule) -> str:
    """Say why a permit cannot mean the same before a rule rewrites destinations; nothing if it can."""
    real = one.destination
    assert rule.to is not None
    assert rule.destination is not None
    if real is None:
        if rule.to_port is not None and one.ports is not None and _meet(one.ports, rule.ports):
            return "its permits see external ports, and one of these is translated"
        return ""
    if real.family != 4:
        return ""
    if meet(real.spans, rule.destination.spans):
        return "its permits see external addresses, and this one is translated"
    if meet(real.spans, rule.to.spans) and not covers(real.spans, rule.to.spans):
        return "its permits see external addresses, and a part of this is translated as a whole"
    return ""


def _external(one: Passage, rule: Rule) -> Passage | None:
    """Return what a permit is for packets that a rule rewrites; None if none of them are meant."""
    assert rule.to is not None
    if one.destination is None:
        if rule.to_port is None or one.ports is None:
            return None  # the same packets, before and after
    elif one.destination.family != 4 or not covers(one.destination.spans, rule.to.spans):
        return None
    protocol = one.protocol or rule.protocol
    if rule.protocol is not None and rule.protocol != protocol:
        return None
    if rule.to_port is None:
        ports = _meet(one.ports, rule.ports)
    else:
        ports = rule.ports if one.ports is None or covers(one.ports, ((rule.to_port, rule.to_port),)) else ()
    arrives, source = _sides(one.arrives, rule.arrives), _sets(one.source, rule.source)
    if ports == () or arrives == () or (source is not None and not source.spans):
        return None
    return replace(one, arrives=arrives, source=source, destination=rule.destination, protocol=protocol, ports=ports)


def _meet(left: Spans | None, right: Spans | None) -> Spans | None:
    return left if right is None else right if left is None else meet(left, right)


def _sides(left: Sides | None, right: Sides | None) -> Sides | None:
    if left is None or right is None:
        return left or right
    return tuple(sorted({*left} & {*right}))


def _sets(left: AddressSet | None, right: AddressSet | None) -> AddressSet | None:
    if left is None or right is None:
        return left or right
    return AddressSet(4, meet(left.spans, right.spans) if left.family == right.family else ())


def _up(facts: Facts) -> Facts:
    rules = _arrivals(facts)
    passages: list[Fact] = []
    waiting: list[Passage] = []
    for one in facts.get("permit", []):
        assert isinstance(one, Passage)
        real = next((_real(one, rule) for rule in rules if _is_external(one, rule)), None)
        if real is not None:
            waiting.append(real)
            continue
        passages += [each for each in waiting if not _says(one, each)]
        waiting = []
        passages.append(one)
    # What permits see of packets to whatever address cannot be said by real ones.
    anywhere = [each for each in rules if each.destination is None] if facts.get("permit") else []
    kept = [each for each in facts.get("rule", []) if each not in anywhere]
    return {**facts, "rule": kept, "unclear": [*facts.get("unclear", []), *anywhere], "permit": [*passages, *waiting]}


def _is_external(one: Passage, rule: Rule) -> bool:
    return (
        rule.destination is not None
        and rule.destination == one.destination
        and rule.protocol in (None, one.protocol)
        and (rule.ports is None or (one.ports is not None and covers(rule.ports, one.ports)))
    )


def _real(one: Passage, rule: Rule) -> Passage:
    ports = one.ports if rule.to_port is None else ((rule.to_port, rule.to_port),)
    return replace(one, destination=rule.to, ports=ports)


def _says(wide: Passage, narrow: Passage) -> bool:
    """Tell whether one permit lets pass all that another does."""
    return (
        (wide.name, wide.verdict, wide.log) == (narrow.name, narrow.verdict, narrow.log)
        and (wide.arrives is None or {*(narrow.arrives or ())} <= {*wide.arrives})
        and (wide.leaves is None or wide.leaves == narrow.leaves)
        and all(
            each is None or (other is not None and covers(each.spans, other.spans))
            for each, other in ((wide.source, narrow.source), (wide.destination, narrow.destination))
        )
        and (wide.protocol is None or wide.protocol == narrow.protocol)
        and (wide.ports is None or (narrow.ports is not None and covers(wide.ports, narrow.ports)))
    )


EXTERNAL = Pass(_down, _up)
