"""Addresses and prefixes of both families, as plain integers.

Reading a capture makes tens of thousands of these, so they are slim records;
text goes through the C library's `inet_pton` and `inet_ntop`.
"""

from __future__ import annotations

import socket
from itertools import pairwise
from socket import inet_ntop, inet_pton
from zlib import crc32

import msgspec

from agile_lattice.intent.masks import BadMask, NoLength, length_of
from agile_lattice.packets.spans import Span, Spans, aligned_blocks, merged

# Plain numbers: the library's own are an enumeration, and to pass one takes as long as the call itself.
AF_INET, AF_INET6 = int(socket.AF_INET), int(socket.AF_INET6)
BITS = {4: 32, 6: 128}


def _parse_value(text: str) -> tuple[int, int]:
    """Read an address as `(family, value)`; the text must be the whole address."""
    try:
        if ":" in text:
            return 6, int.from_bytes(inet_pton(AF_INET6, text), "big")
        return 4, int.from_bytes(inet_pton(AF_INET, text), "big")
    except (OSError, ValueError):
        raise ValueError(f"{text!r} is not an IPv4 or IPv6 address") from None


# Where stand-ins are taken from: 240.0.0.0/4 is reserved (RFC 1112 section 4), 100::/64 is for nobody (RFC 6666).
_STAND_INS = {4: (0xF0000000, 28), 6: (0x0100 << 112, 64)}
_stand_ins: dict[tuple[int, int], str] = {}


def spell_value(family: int, value: int) -> str:
    """Write an address (RFC 5952 form for IPv6); a stand-in is written as what it stands for."""
    first, bits = _STAND_INS[family]
    if value >> bits == first >> bits and (family, value) in _stand_ins:
        return _stand_ins[family, value]
    if family == 4:
        return inet_ntop(AF_INET, value.to_bytes(4, "big"))
    return inet_ntop(AF_INET6, value.to_bytes(16, "big"))


class Address(msgspec.Struct, frozen=True, order=True, gc=False):
    """One address.

    Attributes:
        family: 4 or 6.
        value: The address as an unsigned integer.
    """

    family: int
    value: int

    @classmethod
    def parse(cls, text: str) -> Address:
        """Read `203.0.113.1` or `2001:db8::1`.

        Raises:
            ValueError: If the text is anything else.
        """
        return cls(*_parse_value(text))

    @property
    def is_link_local(self) -> bool:
        """Whether the address means something on one link only (fe80::/10, 169.254.0.0/16)."""
        if self.family == 6:
            return self.value >> 118 == 0x3FA
        return self.value >> 16 == 0xA9FE

    def __str__(self) -> str:
        return spell_value(self.family, self.value)


def stand_in(family: int, what: str) -> Address:
    """Return an address in place of one that is not known before a device learns it.

    It is an address that nobody has, always the same one for the same words, and is printed as these.

    Example:
        >>> str(stand_in(4, "<address learned on quay wan0>"))
        '<address learned on quay wan0>'
    """
    first, bits = _STAND_INS[family]
    at = crc32(what.encode()) & (1 << bits) - 1
    while _stand_ins.setdefault((family, first + at), what) != what:
        at = (at + 1) & (1 << bits) - 1
    return Address(family, first + at)


def is_stand_in(address: Address) -> bool:
    """Tell whether an address stands for one that is not known."""
    return (address.family, address.value) in _stand_ins


def stand_ins_between(family: int, spans: Spans) -> Spans:
    """Return the stand-ins that are alone between two spans."""
    gaps = ((left[1] + 1, right[0] - 1) for left, right in pairwise(spans))
    return tuple(gap for gap in gaps if gap[0] == gap[1] and (family, gap[0]) in _stand_ins)


class Prefix(msgspec.Struct, frozen=True, order=True, gc=False):
    """An address with a prefix length: an interface address or a destination (RFC 4632, RFC 4291).

    Attributes:
        family: 4 or 6.
        value: The address as an unsigned integer; host bits are kept.
        length: Prefix length in bits.
    """

    family: int
    value: int
    length: int

    @classmethod
    def parse(cls, text: str) -> Prefix:
        """Read `10.40.10.1/24` or `2001:db8::/32`; for IPv4 a netmask or a wildcard may stand for the length.

        Raises:
            NoLength: If the length is missing.
            BadMask: If the length is malformed.
            ValueError: If the address is.
        """
        address, slash, length = text.partition("/")
        family, value = _parse_value(address)
        bits = BITS[family]
        if not slash:
            raise NoLength(f"{text!r} has no prefix length: write it behind a slash, from /0 to /{bits}")
        if family == 4 and "." in length:
            return cls(family, value, length_of(length))
        if not (length.isascii() and length.isdigit() and int(length) <= bits):
            raise BadMask(f"{length!r} is not a prefix length; IPv{family} has /0 to /{bits}")
        return cls(family, value, int(length))

    @classmethod
    def host(cls, address: Address) -> Prefix:
        """Return the prefix that holds this one address (/32 or /128)."""
        return cls(address.family, address.value, BITS[address.family])

    @property
    def host_bits(self) -> int:
        """The number of bits that are not fixed by the prefix length."""
        return BITS[self.family] - self.length

    @property
    def is_host(self) -> bool:
        """Whether the prefix is a single address."""
        return self.length == BITS[self.family]

    @property
    def is_private(self) -> bool:
        """Whether the subnet lies in private space: RFC 1918, RFC 6598, RFC 4193."""
        return any(private.contains(self) for private in PRIVATE)

    @property
    def address(self) -> Address:
        """The address without its length."""
        return Address(self.family, self.value)

    @property
    def edges(self) -> tuple[int, ...]:
        """The network and the broadcast address, which no host can have (RFC 1122).

        Empty for /31 (RFC 3021), host-length prefixes and IPv6.
        """
        return (self.first, self.last) if self.family == 4 and self.host_bits > 1 else ()

    @property
    def shortest(self) -> str:
        """The prefix as text, a single address without its length."""
        return str(self.address) if self.is_host else str(self)

    @property
    def first(self) -> int:
        """The lowest address of the subnet, as an integer."""
        bits = BITS[self.family] - self.length
        return self.value >> bits << bits

    @property
    def last(self) -> int:
        """The highest address of the subnet, as an integer."""
        return self.value | (1 << BITS[self.family] - self.length) - 1

    @property
    def network(self) -> Prefix:
        """The same prefix with the host bits cleared."""
        return Prefix(self.family, self.first, self.length)

    def contains(self, other: Address | Prefix) -> bool:
        """Tell whether an address, or every address of a prefix, lies in this subnet."""
        if other.family != self.family:
            return False
        if isinstance(other, Prefix) and other.length < self.length:
            return False
        bits = BITS[self.family] - self.length
        return other.value >> bits == self.value >> bits

    def __str__(self) -> str:
        return f"{spell_value(self.family, self.value)}/{self.length}"


PRIVATE = tuple(
    Prefix.parse(text) for text in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
)


class AddressSet(msgspec.Struct, frozen=True, order=True, gc=False):
    """A canonical set of addresses of one family: equal sets are equal values.

    Attributes:
        family: 4 or 6.
        spans: Sorted, disjoint spans of addresses as integers.
    """

    family: int
    spans: Spans

    @classmethod
    def everything(cls, family: int) -> AddressSet:
        """Return all addresses of a family."""
        return _EVERYTHING[family]

    @classmethod
    def of(cls, *members: Address | Prefix | AddressSet) -> AddressSet:
        """Unite members of one family.

        Raises:
            ValueError: If there are none, or families are mixed. A set of no members at all comes from
                `AddressSet(family, ())` only.
        """
        if len(members) == 1 and isinstance(members[0], Address):  # by far the most common case
            return cls(members[0].family, ((members[0].value, members[0].value),))
        families = {member.family for member in members}
        if len(families) != 1:
            raise ValueError("IPv4 and IPv6 are mixed in one set" if families else "the set is empty")
        spans: list[Span] = []
        for member in members:
            if isinstance(member, AddressSet):
                spans.extend(member.spans)
            elif isinstance(member, Prefix):
                spans.append((member.first, member.last))
            else:
                spans.append((member.value, member.value))
        return cls(families.pop(), merged(spans))

    @classmethod
    def parse(cls, text: str) -> AddressSet:
        """Read one address, a prefix, or a range `first-last`.

        Raises:
            ValueError: If the text is none of these, or the range runs backwards.
        """
        if "-" in text:
            first, last = (Address.parse(end.strip()) for end in text.split("-", 1))
            if first.family != last.family or first.value > last.value:
                raise ValueError(f"{text!r} is not a range: the first address must not lie after the last")
            return cls(first.family, ((first.value, last.value),))
        return cls.of(Prefix.parse(text) if "/" in text else Address.parse(text))

    @property
    def is_single(self) -> bool:
        """Whether the set has exactly one address."""
        spans = self.spans
        return len(spans) == 1 and spans[0][0] == spans[0][1]

    @property
    def single(self) -> Address | None:
        """The address, if the set has exactly one."""
        spans = self.spans
        return Address(self.family, spans[0][0]) if len(spans) == 1 and spans[0][0] == spans[0][1] else None

    def __contains__(self, address: Address) -> bool:
        return self.family == address.family and any(first <= address.value <= last for first, last in self.spans)

    def prefixes(self) -> list[Prefix]:
        """Return the fewest prefixes that hold exactly this set, ascending."""
        return [Prefix(self.family, *block) for block in aligned_blocks(self.spans, BITS[self.family])]

    def __str__(self) -> str:
        return ", ".join(spell_span(self.family, span) for span in self.spans)


_EVERYTHING = {family: AddressSet(family, ((0, (1 << bits) - 1),)) for family, bits in BITS.items()}


def spell_span(family: int, span: Span) -> str:
    """Write a span in the shortest of three forms: address, prefix or `first-last`."""
    first, last = span
    if first == last:
        return spell_value(family, first)
    size = last - first + 1
    if size & (size - 1) == 0 and first % size == 0:
        return f"{spell_value(family, first)}/{BITS[family] - size.bit_length() + 1}"
    return spell_range(family, span)


def spell_range(family: int, span: Span) -> str:
    """Write a span as an address, or as `first-last`."""
    first, last = span
    return spell_value(family, first) if first == last else f"{spell_value(family, first)}-{spell_value(family, last)}"
