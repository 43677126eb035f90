"""Passes that a dialect file names."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping

from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import (
    AddressFact,
    DeclaredInterfaceFact,
    Fact,
    HostFact,
    IdentityFact,
    InterfaceFact,
    MemberFact,
    PartFact,
    ResolverFact,
    VlanMemberFact,
    ZoneFact,
)
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.dialects.passes.answering import answers_are_addresses
from agile_lattice.dialects.passes.dialling import only_dialled
from agile_lattice.dialects.passes.expansion import contract, expand
from agile_lattice.dialects.passes.helpers import HELPERS
from agile_lattice.dialects.passes.instances import numbered, unnumbered
from agile_lattice.dialects.passes.naming import named_as_matched
from agile_lattice.dialects.passes.programs import flattened
from agile_lattice.intent.answering import FAMILIES
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route

LOOPBACK = "lo"


def _loopback_down(facts: Facts, dialect: str) -> Facts:
    interfaces: list[Fact] = []
    refusals = []
    for fact in facts.get("interface", []):
        assert isinstance(fact, InterfaceFact)
        if fact.loopback != (fact.interface == LOOPBACK):
            reason = (
                f"the loopback is called {LOOPBACK} there" if fact.loopback
                else f"{LOOPBACK} is the loopback there: give its addresses under `loopback`"
            )  # fmt: skip
            refusals.append(Refusal(dialect, f"interface {fact.interface}", "loopback", fact.place, reason))
        interfaces.append(replace(fact, loopback=False))
    if refusals:
        raise Refusals(refusals)
    return {**facts, "interface": interfaces}


def _loopback_up(facts: Facts) -> Facts:
    interfaces: list[Fact] = [
        replace(fact, loopback=True) if isinstance(fact, InterfaceFact) and fact.interface == LOOPBACK else fact
        for fact in facts.get("interface", [])
    ]
    return {**facts, "interface": interfaces}


def _unequal_down(facts: Facts, dialect: str) -> Facts:
    reason = "it keeps one way for each destination and distance"
    return _refuse_same(facts, dialect, lambda route: (route.to.network, route.distance), reason)


def _one_way_down(facts: Facts, dialect: str) -> Facts:
    return _refuse_same(facts, dialect, lambda route: route.to.network, "it keeps one way for each destination")


def _refuse_same(facts: Facts, dialect: str, key: Callable[[Route], object], reason: str) -> Facts:
    """Refuse routes that a system would take for another one that it has already."""
    seen: set[object] = set()
    refusals = []
    for fact in facts.get("route", []):
        assert isinstance(fact, Route)
        if key(fact) in seen:
            reason_here = f"{reason}, and another route has it already"
            place = fact.place.at("distance")
            refusals.append(Refusal(dialect, f"route {fact.to}", "distance", place, reason_here))
        seen.add(key(fact))
    if refusals:
        raise Refusals(refusals)
    return facts


def _three_up(facts: Facts) -> Facts:
    return {**facts, "resolver": facts.get("resolver", [])[:MOST_RESOLVERS]}


def _behind_down(facts: Facts, dialect: str) -> Facts:
    """Say of every route which interface it leaves by; what is discarded stands with the loopback."""
    addresses = [fact for fact in facts.get("address", []) if isinstance(fact, AddressFact)]
    off = {
        each.interface for each in facts.get("interface", []) if isinstance(each, InterfaceFact) and not each.enabled
    }
    subnets = sorted(
        (
            (one.interface in off, -one.address.length, one.interface, one.address)
            for one in addresses
            if not one.address.is_host
        ),
        key=lambda each: each[:3],
    )
    routes: list[Fact] = []
    refusals = []
    for fact in facts.get("route", []):
        assert isinstance(fact, Route)
        name = fact.interface
        if fact.discard:
            name = LOOPBACK
        elif name is None and fact.via is not None:
            name = next((interface for _, _, interface, own in subnets if own.contains(fact.via)), None)
        if name is None:
            reason = "a route stands with the interface that it leaves by, and none has its next hop on its link"
            refusals.append(Refusal(dialect, f"route {fact.to}", "via", fact.place.at("via"), reason))
        routes.append(replace(fact, interface=name))
    if refusals:
        raise Refusals(refusals)
    interfaces = list(facts.get("interface", []))
    if any(isinstance(fact, Route) and fact.discard for fact in routes) and not any(
        isinstance(fact, InterfaceFact) and fact.interface == LOOPBACK for fact in interfaces
    ):
        interfaces.append(InterfaceFact(LOOPBACK))
    return {**facts, "route": routes, "interface": interfaces}


def _behind_up(facts: Facts) -> Facts:
    routes: list[Fact] = [
        replace(fact, interface=None) if isinstance(fact, Route) and fact.discard else fact
        for fact in facts.get("route", [])
    ]
    return {**facts, "route": routes}


def _parents_up(facts: Facts) -> Facts:
    interfaces: list[Fact] = [
        _unsaid(fact, "parent") if isinstance(fact, InterfaceFact) and fact.vlan is None else fact
        for fact in facts.get("interface", [])
    ]
    return {**facts, "interface": interfaces}


def _unsaid(fact: InterfaceFact, field: str) -> InterfaceFact:
    """Return an interface as if nothing had been said of a field: another text may speak of it."""
    parts = {name: place for name, place in (fact.place.parts or {}).items() if name != field}
    return replace(fact, **{field: ""}, place=replace(fact.place, parts=parts))


def _bridged_up(facts: Facts) -> Facts:
    """Part members whose master is not known to be a bridge from the others: another text may say that it is one."""
    bridges = {fact.interface for fact in facts.get("interface", []) if isinstance(fact, InterfaceFact) and fact.bridge}
    members: list[Fact] = []
    others: list[Fact] = []
    for fact in facts.get("member", []):
        (members if isinstance(fact, MemberFact) and fact.master in bridges else others).append(fact)
    return {**facts, "member": members, "masterless": others}


def _swapped(facts: Facts) -> Facts:
    members: list[Fact] = [
        replace(fact, interface=fact.master, master=fact.interface) if isinstance(fact, MemberFact) else fact
        for fact in facts.get("member", [])
    ]
    return {**facts, "member": members}


def _made_down(facts: Facts, dialect: str) -> Facts:
    """Say apart which interfaces the system makes, and let parents name their parts."""
    interfaces: list[Fact] = []
    made: list[Fact] = []
    parts: list[Fact] = []
    for fact in facts.get("interface", []):
        assert isinstance(fact, InterfaceFact)
        if fact.bridge:
            made.append(DeclaredInterfaceFact(fact.interface, "bridge", None, fact.by_vlan, place=fact.place))
        if fact.parent and fact.vlan:
            made.append(DeclaredInterfaceFact(fact.interface, "vlan", fact.vlan, place=fact.place))
            parts.append(PartFact(fact.parent, fact.interface, fact.place))
            fact = replace(fact, parent="", vlan=None)
        interfaces.append(replace(fact, bridge=False, by_vlan=False))
    # The unit says whose VLAN it is.
    carried: list[Fact] = [
        replace(each, own=False) for each in facts.get("vlan-member", []) if isinstance(each, VlanMemberFact)
    ]
    return {**facts, "interface": interfaces, "declared-interface": made, "part": parts, "vlan-member": carried}


MADE = ("bridge", "by_vlan", "default_vlan", "vlan")


def _made_up(facts: Facts) -> Facts:
    interfaces = list(facts.get("interface", []))
    for fact in facts.get("declared-interface", []):
        assert isinstance(fact, DeclaredInterfaceFact)
        place = Place(fact.place.file, fact.place.line, dict.fromkeys(MADE, fact.place))
        made = {field: getattr(fact, field) for field in MADE[1:]}
        interfaces.append(InterfaceFact(fact.interface, bridge=fact.sort == "bridge", **made, place=place))
    for fact in facts.get("part", []):
        assert isinstance(fact, PartFact)
        place = Place(fact.place.file, fact.place.line, {"parent": fact.place})
        interfaces.append(InterfaceFact(fact.part, parent=fact.interface, place=place))
    return {**facts, "interface": interfaces}


def _by_name_down(facts: Facts, dialect: str) -> Facts:
    """Refuse VLANs that do not say by their name what they are: nothing else would make them in time."""
    reason = "it makes a VLAN before its first address only by its name, which has to be PARENT.ID"
    refusals = [
        Refusal(dialect, f"interface {fact.interface}", "parent", fact.place.at("parent"), reason)
        for fact in facts.get("interface", [])
        if isinstance(fact, InterfaceFact) and fact.parent and fact.interface != f"{fact.parent}.{fact.vlan}"
    ]
    if refusals:
        raise Refusals(refusals)
    return facts


STARTED = "auto"
MARKED = "marked"  # the part of the place of an interface of which a text says only that it is brought up


def _started_down(facts: Facts, dialect: str) -> Facts:
    """Mark the interfaces that are brought up; what an address or a mark names needs no naming for its own sake."""
    interfaces: list[Fact] = []
    marks: list[Fact] = []
    addressed = {fact.interface for fact in facts.get("address", []) if isinstance(fact, AddressFact)}
    routed = {fact.interface for fact in facts.get("route", []) if isinstance(fact, Route)}
    for fact in facts.get("interface", []):
        assert isinstance(fact, InterfaceFact)
        if fact.enabled:
            marks.append(ZoneFact(fact.interface, STARTED, fact.place))
        bare = replace(fact, enabled=True)
        named = fact.interface in addressed or (fact.interface == LOOPBACK and fact.enabled)
        if not named or fact.interface in routed or bare != InterfaceFact(fact.interface):
            interfaces.append(bare)
    return {**facts, "interface": interfaces, "zone": marks}


def _aliased(facts: Facts, marked: Collection[str]) -> Facts:
    """Let what is said of an alias be said of its interface; what nobody brings up is set aside."""
    changed: Facts = {}
    for kind in ("address", "route", "interface"):
        kept: list[Fact] = []
        for fact in facts.get(kind, []):
            name = str(getattr(fact, "interface", "") or "")
            base, colon, _ = name.partition(":")
            if not colon:
                kept.append(fact)
            elif name in marked:
                kept.append(replace(fact, interface=base))
            else:
                changed.setdefault("unmarked", []).append(fact)
        changed[kind] = kept
    return {**facts, **changed}


def _started_up(facts: Facts) -> Facts:
    marked = {name for fact in facts.get("zone", []) if isinstance(fact, ZoneFact) for name in fact.interface.split()}
    facts = _aliased(facts, marked)
    # A line may mark several interfaces.
    marks = {
        name.partition(":")[0]: fact
        for fact in facts.get("zone", [])
        if isinstance(fact, ZoneFact)
        for name in fact.interface.split()
    }
    known = [fact for fact in facts.get("interface", []) if isinstance(fact, InterfaceFact)]
    # An interface may be named by its addresses only; or by its mark, and what is done with it then is in another text.
    named = {fact.interface: fact.place for fact in facts.get("address", []) if isinstance(fact, AddressFact)}
    for fact in known:
        named.pop(fact.interface, None)
    known += [InterfaceFact(name, place=place) for name, place in named.items()]
    alone = marks.keys() - {fact.interface for fact in known}
    interfaces: list[Fact] = [_started(fact, marks.get(fact.interface)) for fact in known]
    interfaces += [InterfaceFact(name, place=_marked(fact.place)) for name, fact in marks.items() if name in alone]
    return {**facts, "interface": interfaces, "zone": []}


def _started(fact: InterfaceFact, mark: ZoneFact | None) -> InterfaceFact:
    """Return an interface as it is with its mark; without one, another text may have that."""
    parts = {part: place for part, place in (fact.place.parts or {}).items() if part != "enabled"}
    parts |= {"enabled": mark.place} if mark is not None else {}
    return replace(fact, enabled=mark is not None, place=replace(fact.place, parts=parts))


def _marked(place: Place) -> Place:
    return Place(place.file, place.line, {"enabled": place, MARKED: place})


def _policy_up(facts: Facts) -> Facts:
    """Put what a list does with what no rule matches behind its rules."""
    changed: Facts = {}
    for kind in ("permit", "access"):
        members = [fact for fact in facts.get(kind, []) if isinstance(fact, Passage)]
        rules = [fact for fact in members if fact.rank is None]
        policies = [replace(fact, rank=None, place=replace(fact.place, last=True)) for fact in members
                    if fact.rank is not None]  # fmt: skip
        # To drop the rest is what a list of permits means, and so is to pass it where there are no rules.
        changed[kind] = [*rules, *(each for each in policies if (each.verdict == "pass") == bool(rules))]
    return {**facts, **changed}


def _said_down(facts: Facts, dialect: str) -> Facts:
    said: list[Fact] = [
        each for each in facts.get("identity", []) if isinstance(each, IdentityFact) and not each.derived
    ]
    return {**facts, "identity": said}


MOST_RESOLVERS = 3  # MAXNS of resolv.conf(5)


def _three_down(facts: Facts, dialect: str) -> Facts:
    refusals = [
        Refusal(
            dialect, f"resolver {fact.address}", "resolvers", fact.place, f"no more than {MOST_RESOLVERS} are asked"
        )
        for fact in facts.get("resolver", [])[MOST_RESOLVERS:]
        if isinstance(fact, ResolverFact)
    ]
    if refusals:
        raise Refusals(refusals)
    return facts


def _names_up(facts: Facts) -> Facts:
    hosts: list[Fact] = [
        replace(fact, name=name)
        for fact in facts.get("host", [])
        if isinstance(fact, HostFact)
        for name in fact.name.split()
    ]
    return {**facts, "host": hosts}


PASSES: Mapping[str, Pass] = {
    # The kernel has one loopback, and its name is what marks it.
    "loopback-is-lo": Pass(_loopback_down, _loopback_up),
    # `ip route replace` takes away what has the same destination and metric.
    "one-way-each": Pass(_unequal_down, lambda facts: facts),
    "routes-with-interfaces": Pass(_behind_down, _behind_up),
    # What a link hangs on is its parent if it is a VLAN, and just the other end of a cable if not.
    "link-is-parent-of-vlan": Pass(lambda facts, dialect: facts, _parents_up),
    # Where a bridge names its members, and not each member its bridge.
    "members-with-bridges": Pass(lambda facts, dialect: _swapped(facts), _swapped),
    # Where what an interface is a part of need not be a bridge.
    "masters-are-bridges": Pass(lambda facts, dialect: facts, _bridged_up),
    "made-apart": Pass(_made_down, _made_up),
    "vlans-by-name": Pass(_by_name_down, lambda facts: facts),
    # Where another program dials: a line has nothing that would have to wait for it.
    "only-dialled": Pass(only_dialled, lambda facts: facts),
    # Where an interface is brought up if a mark says so, and else stays down.
    "started-by-mark": Pass(_started_down, _started_up),
    # Where one rule matches one interface and one prefix.
    "one-of-each": Pass(expand, contract),
    # Where a text calls interfaces by names of its own, and says which they are.
    "named-as-matched": Pass(lambda facts, dialect: facts, named_as_matched),
    # Where each translation is an instance by itself.
    "instances": Pass(numbered, unnumbered),
    # Where a system takes its first address for its identity by itself, as an intent does.
    "identity-if-said": Pass(_said_down, lambda facts: facts),
    "three-resolvers": Pass(_three_down, _three_up),
    # Where a line has an address and all its names.
    "names-apart": Pass(lambda facts, dialect: facts, _names_up),
    # Where rules are a program of chains that jump to one another. It is only read.
    "programs": Pass(lambda facts, dialect: facts, flattened),
    # Where what no rule matches is decided in a line of its own, which stands first.
    "policy-first": Pass(lambda facts, dialect: facts, _policy_up),
    "one-way-each-prefix": Pass(_one_way_down, lambda facts: facts),
    # Where a system answers only for its own addresses, each is made one, host-length. Which of
    # the addresses read are there for that, only the translations tell: see `intent.normal`.
    "helpers-by-name": HELPERS,
    "answers-are-addresses": answers_are_addresses(*FAMILIES),
    # A local route answers ARP, and does not answer neighbour discovery.
    "ipv6-answers-are-addresses": answers_are_addresses(6),
}
