"""Interfaces: addresses, how they are come by, and what an interface is made of."""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import NOWHERE, Place

ETHERNET_MTU = 1500  # RFC 894
LOOPBACK_MTU = 65536
UNTAGGED = 0  # in place of a VLAN id, which is from 1 to 4094 (IEEE 802.1Q)

Learning = Literal["dhcp", "dhcp6", "slaac"]
Purpose = Literal["published", "pool"]


class Secret(msgspec.Struct, frozen=True):
    """Where a credential is kept; never the credential itself.

    Attributes:
        kind: `environment` for a variable of the process, `file` for the first line of a file.
        name: Of the variable or the file.
    """

    kind: Literal["environment", "file"]
    name: str

    def __str__(self) -> str:
        return f"{self.kind} {self.name}"


class Dial(msgspec.Struct, frozen=True):
    """A dial-up tunnel (PPPoE, RFC 2516); the interface learns its address from it.

    Attributes:
        over: The interface whose wire it runs over.
    """

    over: str
    user: Secret
    password: Secret


class Bridge(msgspec.Struct, frozen=True):
    """Interfaces joined to one segment (IEEE 802.1Q).

    Attributes:
        members: Names of the member interfaces, sorted.
        vlans: VLAN ids of which the bridge itself is a member, sorted: it can route these.
    """

    members: tuple[str, ...]
    vlans: tuple[int, ...] = ()


class Extra(msgspec.Struct, frozen=True):
    """An address that an interface has besides its own, to answer for it.

    Attributes:
        purpose: `published` for a service behind it, `pool` for sources to be shown as.
    """

    address: Prefix
    purpose: Purpose
    description: str = ""
    place: Place = NOWHERE


class Interface(msgspec.Struct, frozen=True):
    """An interface of a device.

    Attributes:
        addresses: Its own addresses with their prefix lengths.
        loopback: Whether it is a loopback of the device.
        enabled: Whether it is administratively up.
        mtu: In octets; `None` if the intent does not say, which means the medium's default.
        zone: The side it faces; empty if it faces none.
        learns: How it learns addresses: DHCP (RFC 2131), DHCPv6 (RFC 8415), SLAAC (RFC 4862).
        dial: The dial-up tunnel that it is the end of.
        parent: The interface that it is a part of: a VLAN of it, or its untagged unit.
        vlan: VLAN id on the parent; `UNTAGGED` for the untagged unit; `None` if not said.
        bridge: What it joins, if it is a bridge.
        tagged, untagged: As a member of a bridge, the VLAN ids that it carries with and without a tag.
        management: Whether it only carries the management address of a device that switches.
        gateway: Default gateway of the device as a host.
        resolvers: DNS resolvers to be asked by way of it.
        search: Domains in which short names are looked for by way of it, in order (RFC 1535).
        instance: Routing instance (RFC 4364 VRF, RFC 8529); empty for the main one.
        block: The provider's block that its addresses claim to be of.
        link: Name of the link that it is an end of, where the subnet alone should not tell.
        extra: Addresses that it has for translations.
        answers: What it answers ARP or ND for besides its own, if that is said and not derived; one set a family.
    """

    name: str
    addresses: tuple[Prefix, ...] = ()
    loopback: bool = False
    enabled: bool = True
    mtu: int | None = None
    description: str = ""
    zone: str = ""
    learns: tuple[Learning, ...] = ()
    dial: Dial | None = None
    parent: str = ""
    vlan: int | None = None
    bridge: Bridge | None = None
    tagged: tuple[int, ...] = ()
    untagged: int | None = None
    management: bool = False
    gateway: Address | None = None
    resolvers: tuple[Address, ...] = ()
    search: tuple[str, ...] = ()
    instance: str = ""
    block: str = ""
    link: str = ""
    extra: tuple[Extra, ...] = ()
    answers: tuple[AddressSet, ...] | None = None
    place: Place = NOWHERE

    @property
    def usual_mtu(self) -> int:
        """The MTU that it has if nothing is said, in octets."""
        return LOOPBACK_MTU if self.loopback else ETHERNET_MTU

    @property
    def carried(self) -> frozenset[int]:
        """The VLANs that it carries as a member of a bridge, or, as a bridge, of which it is a member itself."""
        untagged = () if self.untagged is None else (self.untagged,)
        return frozenset((*self.tagged, *untagged, *(self.bridge.vlans if self.bridge else ())))

    @property
    def learns_ipv4(self) -> bool:
        """Whether its IPv4 address comes from elsewhere."""
        return "dhcp" in self.learns or (self.dial is not None and not any(own.family == 4 for own in self.addresses))

    def subnet_of(self, address: Address | Prefix) -> Prefix | None:
        """Return the own address whose subnet holds `address`, the longest; host-length ones hold nothing else."""
        best = None
        for own in self.addresses:
            if own.contains(address) and not own.is_host and (best is None or own.length > best.length):
                best = own
        return best

    def place_of(self, index: int) -> Place:
        """Return where the own address of that index is written."""
        return self.place.at("loopback" if self.loopback else "address", index)
