"""The arithmetic of prefixes: masks, bounds, summaries, splitting, the capacity of a pool."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from agile_lattice.intent.addresses import BITS, Address, AddressSet, Prefix
from agile_lattice.intent.masks import BadMask, length_of, netmask, wildcard
from agile_lattice.packets.spans import minus, size

# RFC 6056 section 3.2: the ports that a translator has for connections of others, for each protocol.
PORTS_PER_ADDRESS = 64512
MOST_PARTS = 1 << 16


class Mask(msgspec.Struct, frozen=True):
    """One prefix length of IPv4 in its three spellings.

    Attributes:
        length: In bits.
        addresses: How many addresses a subnet of it has.
    """

    length: int
    netmask: str
    wildcard: str
    addresses: int


class Bounds(msgspec.Struct, frozen=True):
    """The bounds of a subnet.

    Attributes:
        first, last: The lowest and the highest address that a host can have.
        broadcast: `None` where there is none: IPv6, /31 (RFC 3021) and host-length prefixes.
        addresses: How many addresses it has.
        hosts: How many of them a host can have.
    """

    network: Prefix
    first: Address
    last: Address
    broadcast: Address | None
    addresses: int
    hosts: int


class Summary(msgspec.Struct, frozen=True):
    """Prefixes put together.

    Attributes:
        prefix: The smallest prefix that covers all of them.
        too_much: What it covers besides, as the fewest prefixes.
        extra: How many addresses that is.
        exact: The fewest prefixes that cover just what was given.
    """

    prefix: Prefix
    too_much: tuple[Prefix, ...]
    extra: int
    exact: tuple[Prefix, ...]


class Capacity(msgspec.Struct, frozen=True):
    """What a pool of external addresses can carry.

    Attributes:
        addresses: How many it has: with ports kept, so many internal hosts at a time.
        connections: With ports shared, so many connections at a time, for each protocol.
        ports_per_host: Of these for each host; `None` if it was not said how many there are.
    """

    addresses: int
    connections: int
    ports_per_host: int | None


def mask(text: str) -> Mask:
    """Read a prefix length, a netmask or a wildcard, and give all three.

    Raises:
        BadMask: If the text is none of them.
    """
    bare = text.removeprefix("/")
    if bare.isascii() and bare.isdigit() and int(bare) <= 32:
        length = int(bare)
    elif "." in bare:
        length = length_of(bare)
    else:
        raise BadMask(f"{text!r} is not a prefix length from /0 to /32, a netmask or a wildcard")
    return Mask(length, netmask(length), wildcard(length), 1 << 32 - length)


def bounds(prefix: Prefix) -> Bounds:
    """Return the bounds of the subnet that a prefix is of."""
    inner = 1 if prefix.edges else 0
    first, last = prefix.first + inner, prefix.last - inner
    return Bounds(
        prefix.network,
        Address(prefix.family, first),
        Address(prefix.family, last),
        Address(4, prefix.last) if prefix.edges else None,
        1 << prefix.host_bits,
        last - first + 1,
    )


def summary(prefixes: Sequence[Prefix]) -> Summary:
    """Put prefixes together.

    Raises:
        ValueError: If there are none, or families are mixed.
    """
    together = AddressSet.of(*prefixes)
    family, bits = together.family, BITS[together.family]
    first, last = together.spans[0][0], together.spans[-1][1]
    length = bits - (first ^ last).bit_length()
    around = Prefix(family, first, length).network
    rest = AddressSet(family, minus(((around.first, around.last),), together.spans))
    return Summary(around, tuple(rest.prefixes()), size(rest.spans), tuple(together.prefixes()))


def split(prefix: Prefix, length: int) -> list[Prefix]:
    """Cut a subnet into parts of a greater prefix length.

    Raises:
        ValueError: If the length is not greater, too great for the family, or would give more than 65536 parts.
    """
    if not prefix.length <= length <= BITS[prefix.family]:
        raise ValueError(f"/{length} is no part of {prefix.network}: lengths go from /{prefix.length} on")
    count = 1 << length - prefix.length
    if count > MOST_PARTS:
        raise ValueError(f"{prefix.network} has {count} parts of /{length}; at most {MOST_PARTS} are listed")
    step = 1 << BITS[prefix.family] - length
    return [Prefix(prefix.family, prefix.first + index * step, length) for index in range(count)]


def capacity(pool: AddressSet, hosts: int | None = None) -> Capacity:
    """Tell what a pool can carry, with ports kept and with ports shared.

    Args:
        pool: External addresses.
        hosts: How many internal hosts use it at a time, if that is known.
    """
    addresses = size(pool.spans)
    connections = addresses * PORTS_PER_ADDRESS
    return Capacity(addresses, connections, connections // hosts if hosts else None)
