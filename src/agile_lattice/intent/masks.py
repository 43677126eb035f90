"""Prefix length, netmask and wildcard (inverse mask) of IPv4, turned into one another."""

from __future__ import annotations

from socket import AF_INET, inet_ntop, inet_pton

ALL_ONES = 0xFFFFFFFF


class NoLength(ValueError):
    """An address stands where a prefix was asked for, and nothing tells its length."""

    slug = "length-missing"


class BadMask(ValueError):
    """A length, netmask or wildcard is malformed."""

    slug = "mask-malformed"


def netmask(length: int) -> str:
    """Write a prefix length as a netmask: 24 is `255.255.255.0`."""
    return inet_ntop(AF_INET, _ones(length).to_bytes(4, "big"))


def wildcard(length: int) -> str:
    """Write a prefix length as a wildcard, the bits that may differ: 24 is `0.0.0.255`."""
    return inet_ntop(AF_INET, (_ones(length) ^ ALL_ONES).to_bytes(4, "big"))


def _ones(length: int) -> int:
    return ALL_ONES >> length ^ ALL_ONES


def length_of(text: str) -> int:
    """Read a netmask or a wildcard as a prefix length in bits.

    `0.0.0.0` and `255.255.255.255` could be either and are taken as netmasks.

    Raises:
        BadMask: If the text is neither.
    """
    try:
        value = int.from_bytes(inet_pton(AF_INET, text), "big")
    except OSError:
        raise BadMask(f"{text!r} is neither a netmask nor a wildcard") from None
    for bits in (value, value ^ ALL_ONES):
        length = bits.bit_count()
        if bits == _ones(length):
            return length
    near = value.bit_count() if value >> 31 else 32 - value.bit_count()
    raise BadMask(
        f"{text!r} is neither a netmask nor a wildcard: it is not contiguous"
        f" (the nearest are {netmask(near)} and {wildcard(near)})"
    )
