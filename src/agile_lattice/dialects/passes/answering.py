"""What a device answers for, where its system answers for the addresses that an interface has and for nothing else."""

from __future__ import annotations

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import AddressFact, Fact, ProxyFact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.intent.addresses import BITS, Address, Prefix

MOST_ANSWERS = (
    1024  # addresses that an interface is given to answer for, before a route to the device is the better way
)


def answers_are_addresses(*families: int) -> Pass:
    """Give interfaces, as their own, the addresses of some families that they answer for."""

    def down(facts: Facts, dialect: str) -> Facts:
        answers = [each for each in facts.get("proxy", []) if isinstance(each, ProxyFact)]
        theirs = [each for each in answers if each.address.family in families]
        _refuse_many(theirs, dialect)
        extra: list[Fact] = [
            AddressFact(fact.interface, Prefix.host(Address(fact.address.family, value)), fact.place)
            for fact in theirs
            for value in range(fact.address.first, fact.address.last + 1)
        ]
        rest: list[Fact] = [each for each in answers if each not in theirs]
        return {**facts, "proxy": rest, "address": [*facts.get("address", []), *extra]}

    return Pass(down, lambda facts: facts)


def _refuse_many(answers: list[ProxyFact], dialect: str) -> None:
    count = sum(each.address.last - each.address.first + 1 for each in answers)
    if count <= MOST_ANSWERS:
        return
    widest = min(answers, key=lambda each: each.address.length - BITS[each.address.family])
    what = f"{widest.proxy} for {widest.address} on {widest.interface}"
    reason = (
        f"there an address that is answered for is one that the interface has, and {count:,} are more than "
        f"{MOST_ANSWERS:,}: have the prefix routed to the device"
    )
    raise Refusals([Refusal(dialect, what, "answers", widest.place, reason)])
