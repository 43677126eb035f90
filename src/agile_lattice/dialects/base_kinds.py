"""The kinds that every dialect has: addresses, prefixes and sets of them, masks, ports, numbers, words."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache, reduce
from socket import inet_ntop, inet_pton

import msgspec

from agile_lattice.dialects.kinds import CACHED, NUMBERS, WHOLE, Kind, Unspellable, always, number_kind, text_kind
from agile_lattice.intent.addresses import AF_INET, AF_INET6, BITS, Address, AddressSet, Prefix
from agile_lattice.intent.masks import netmask, wildcard
from agile_lattice.intent.services import spell_ports
from agile_lattice.packets.spans import Span, Spans, meet, merged, minus

# Every line of a long text may hold some of these: they are read without the messages of `Prefix.parse`.
_FAMILY = {4: AF_INET, 6: AF_INET6}
_LENGTHS = {
    family: {f"{length:0{digits}}": length for digits in (1, 2, 3) for length in range(bits + 1)}
    for family, bits in BITS.items()
}


def _address_kind(family: int, pattern: str) -> Kind:
    kind, from_bytes = _FAMILY[family], int.from_bytes

    @lru_cache(CACHED)
    def read(text: str) -> Address:
        return Address(family, from_bytes(inet_pton(kind, text)))

    return Kind(f"address{family}", pattern, read, lru_cache(CACHED)(str), lambda trait: trait == family, gives=Address)


def _prefix_kind(family: int, pattern: str) -> Kind:
    kind, octets, lengths, from_bytes = _FAMILY[family], BITS[family] // 8, _LENGTHS[family], int.from_bytes

    def write(value: Prefix) -> str:
        return f"{inet_ntop(kind, value.value.to_bytes(octets))}/{value.length}"

    def read(text: str) -> Prefix:
        address, length = text.split("/")
        return Prefix(family, from_bytes(inet_pton(kind, address)), lengths[length])

    return Kind(
        f"prefix{family}", pattern + r"/[0-9]{1,3}", read, write,
        lambda trait: trait in (family, (family, WHOLE)), gives=Prefix,
    )  # fmt: skip


def _host_kind(family: int, pattern: str) -> Kind:
    def write(value: Prefix) -> str:
        if not value.is_host:
            raise Unspellable(f"{value} is not a single address")
        return str(value.address)

    return Kind(
        f"host{family}",
        pattern,
        lambda text: Prefix.host(Address.parse(text)),
        write,
        lambda trait: trait == family,
        gives=Prefix,
    )


def _span_kind(name: str, family: int, pattern: str, as_prefix: bool) -> Kind:
    """One span as a set; `as_prefix` if it is written as a prefix where it is one, and not as a range."""
    kind, bits, lengths, from_bytes = _FAMILY[family], BITS[family], _LENGTHS[family], int.from_bytes
    octets = bits // 8

    @lru_cache(CACHED)
    def read(text: str) -> AddressSet:
        if "-" in text:
            return AddressSet.parse(text)
        address, slash, length = text.partition("/")
        first = from_bytes(inet_pton(kind, address))
        if not slash:
            return AddressSet(family, ((first, first),))
        host = bits - lengths[length]
        first = first >> host << host
        return AddressSet(family, ((first, first | (1 << host) - 1),))

    def write(value: AddressSet) -> str:
        first, last = value.spans[0]
        text, host = inet_ntop(kind, first.to_bytes(octets)), last - first
        if not host:
            return text
        if as_prefix and not host & (host + 1) and not first & host:
            return f"{text}/{bits - host.bit_length()}"
        return f"{text}-{inet_ntop(kind, last.to_bytes(octets))}"

    def scatter(value: AddressSet) -> list[AddressSet]:
        return [AddressSet(family, (span,)) for span in value.spans]

    whole = rf"{pattern}(?:/[0-9]{{1,3}}|-{pattern})?"
    return Kind(
        name, whole, read, write, lambda trait: bool(trait == (family, False)),
        lambda members: AddressSet.of(*members), scatter, gives=AddressSet,
    )  # fmt: skip


def _prefixed_kind(name: str, family: int, pattern: str) -> Kind:
    """One prefix as a set, with its length even if it is a single address; other spans have another spelling."""
    kind, bits = _FAMILY[family], BITS[family]

    def write(value: AddressSet) -> str:
        first, last = value.spans[0]
        host = last - first
        if len(value.spans) > 1 or host & (host + 1) or first & host:
            raise Unspellable(f"{value} is not one prefix")
        return f"{inet_ntop(kind, first.to_bytes(bits // 8))}/{bits - host.bit_length()}"

    plain = _span_kind(name, family, pattern, as_prefix=True)
    whole = rf"{pattern}(?:/[0-9]{{1,3}})?"
    return msgspec.structs.replace(plain, pattern=whole, write=write)


def _masked_kind() -> Kind:
    """One prefix of IPv4 as a set, its length said by a netmask. It is only read."""

    def read(text: str) -> AddressSet:
        address, _, mask = text.partition("/")
        return AddressSet.of(Prefix(4, Address.parse(address).value, _length_of_mask(mask)))

    return Kind("masked4", rf"{_IPV4}/{_IPV4}", read, str, lambda trait: False, gives=AddressSet)


def _complement_kind(family: int, pattern: str) -> Kind:
    """Everything but one span: read as the set that is left, never written."""
    everything = AddressSet(family, ((0, (1 << BITS[family]) - 1),))

    def read(text: str) -> AddressSet:
        left = minus(everything.spans, AddressSet.parse(text).spans)
        if not left:
            raise ValueError("nothing is left")
        return AddressSet(family, left)

    whole = rf"{pattern}(?:/[0-9]{{1,3}}|-{pattern})?"

    def collect(members: Iterable[AddressSet]) -> AddressSet:
        return AddressSet(family, reduce(meet, [each.spans for each in members]))  # none of them

    return Kind(
        f"allbut{family}", whole, read, str, lambda trait: False, collect, lambda value: (value,), gives=AddressSet
    )


def _read_ports(text: str) -> Spans:
    first, _, last = text.partition("-")
    span: Span = (int(first), int(last or first))
    if not span[0] <= span[1] <= 65535:
        raise ValueError(f"{text} is not a range of ports")
    return (span,)


def _read_bits(text: str) -> Spans:
    first, _, last = text.partition("-")
    span: Span = (int(first, 0), int(last or first, 0))
    if not span[0] <= span[1] < 1 << 32:
        raise ValueError(f"{text} is not a number of 32 bits, or a range of them")
    return (span,)


def _read_mask(spell: Callable[[int], str]) -> Callable[[str], int]:
    lengths = {spell(length): length for length in range(33)}

    def read(text: str) -> int:
        if text not in lengths:
            raise ValueError(f"{text} is no mask: its bits are not contiguous")
        return lengths[text]

    return read


_length_of_mask = _read_mask(netmask)
_IPV4 = r"[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}"  # written out: a counted group takes twice as long
_BITS = r"0x[0-9a-fA-F]{1,8}|[1-9][0-9]{0,9}|0"
_IPV6 = r"[0-9a-fA-F]*:[0-9a-fA-F:.]+"

BASE: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        _address_kind(4, _IPV4),
        _address_kind(6, _IPV6),
        _prefix_kind(4, _IPV4),
        _prefix_kind(6, _IPV6),
        _host_kind(4, _IPV4),
        _host_kind(6, _IPV6),
        _span_kind("span4", 4, _IPV4, as_prefix=True),
        _span_kind("span6", 6, _IPV6, as_prefix=True),
        _span_kind("range4", 4, _IPV4, as_prefix=False),
        _prefixed_kind("prefixed4", 4, _IPV4),
        _prefixed_kind("prefixed6", 6, _IPV6),
        _span_kind("range6", 6, _IPV6, as_prefix=False),
        _masked_kind(),
        _complement_kind(4, _IPV4),
        _complement_kind(6, _IPV6),
        Kind(
            "ports", r"[0-9]{1,5}(?:-[0-9]{1,5})?", lru_cache(CACHED)(_read_ports),
            lambda value: spell_ports(value[0]), lambda trait: trait is False,
            lambda members: merged(span for each in members for span in each),
            lambda value: [(each,) for each in value], gives=Spans,
        ),
        Kind("bits", _BITS, lambda text: int(text, 0), hex, always, gives=int),
        Kind(
            "bit-sets", rf"(?:{_BITS})(?:-(?:{_BITS}))?", _read_bits, lambda value: "-".join(map(hex, value[0])),
            lambda trait: trait is False, lambda members: merged(span for each in members for span in each),
            lambda value: [(each,) for each in value], gives=Spans,
        ),
        Kind("length", r"[0-9]{1,3}", int, str, always, gives=int),
        Kind("netmask", _IPV4, _read_mask(netmask), netmask, lambda trait: trait == 4, gives=int),
        Kind("wildcard", _IPV4, _read_mask(wildcard), wildcard, lambda trait: trait == 4, gives=int),
        number_kind("number", 0, 0, NUMBERS),
        text_kind("word", r"[^\s]+", None, "", "", True),
        text_kind("line", r"\S(?:.*\S)?", None, "", "", False),
        text_kind("quoted", r'[^"]*', None, '"', '"', False),
    )
}  # fmt: skip
