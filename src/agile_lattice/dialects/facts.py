"""Flat typed facts: what single statements say, whatever their syntax.

A dialect's phrases make facts and are made from facts; `assembly` turns facts into the
model and back. What the engine has to know about each kind of fact is in `fact_types`.
"""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatchcase
from pathlib import PurePath
from typing import Literal

import msgspec

from agile_lattice.dialects.program_facts import BaseChainFact, ChainFact, PolicyFact, PortSetFact, StepFact
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.model import ReversePath
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Spans


class DeviceFact(msgspec.Struct, frozen=True):
    """The device's own name."""

    hostname: str
    place: Place = NOWHERE


class InterfaceFact(msgspec.Struct, frozen=True):
    """An interface, without its addresses and without what it joins.

    Attributes:
        dhcp4, dhcp6, slaac: Whether it learns addresses in this way.
        dials: What it dials, if it is the end of a dial-up tunnel: a fact of its own, called like the interface.
        bridge: Whether it is a bridge; its members and VLANs are facts of their own.
        by_vlan: Whether that bridge keeps VLANs apart (IEEE 802.1Q): only then what its members carry counts.
        default_vlan: The VLAN that it and its members are in without a tag, if nothing is said of theirs.
        parent, vlan, ...: As in `intent.interfaces.Interface`.
    """

    interface: str
    loopback: bool = False
    enabled: bool = True
    mtu: int | None = None
    description: str = ""
    dhcp4: bool = False
    dhcp6: bool = False
    slaac: bool = False
    dials: str = ""
    parent: str = ""
    vlan: int | None = None
    bridge: bool = False
    by_vlan: bool = False
    default_vlan: int | None = None
    instance: str = ""
    place: Place = NOWHERE


class DialFact(msgspec.Struct, frozen=True):
    """A dial-up tunnel (PPPoE, RFC 2516), by the interface that is its end.

    Attributes:
        over: The interface whose wire it runs over.
        credentials: The file on the device that user name and password are in.
        apart: Whether the two are not in one file.
        mtu: The MTU of the tunnel.
    """

    interface: str
    over: str = ""
    credentials: str = ""
    apart: bool = False
    mtu: int | None = None
    place: Place = NOWHERE


class AddressFact(msgspec.Struct, frozen=True):
    """One address of an interface."""

    interface: str
    address: Prefix
    place: Place = NOWHERE


class ProxyFact(msgspec.Struct, frozen=True):
    """A prefix that the device answers for on an interface, besides its own addresses."""

    interface: str
    address: Prefix
    place: Place = NOWHERE

    @property
    def proxy(self) -> str:
        """What it is called."""
        return "proxy ARP" if self.address.family == 4 else "proxy ND"


class MemberFact(msgspec.Struct, frozen=True):
    """An interface as a member of a bridge, its `master`."""

    interface: str
    master: str
    place: Place = NOWHERE


class VlanMemberFact(msgspec.Struct, frozen=True):
    """A VLAN that a member of a bridge carries, or of which the bridge itself is a member.

    Attributes:
        pvid: Whether it is the VLAN of what comes in without a tag.
        untagged: Whether it goes out without a tag.
        own: Whether it is the bridge itself that is a member.
    """

    interface: str
    vlan: int
    pvid: bool = False
    untagged: bool = False
    own: bool = False
    place: Place = NOWHERE


class DeclaredInterfaceFact(msgspec.Struct, frozen=True):
    """That an interface is made by the system, where that is said apart from what is set on it.

    Attributes:
        sort: `vlan` or `bridge`.
        vlan: The VLAN id, if it is one.
        by_vlan: Whether it is a bridge that keeps VLANs apart.
        default_vlan: The VLAN of those of its ports of which nothing is said.
    """

    interface: str
    sort: str
    vlan: int | None = None
    by_vlan: bool = False
    default_vlan: int | None = None
    place: Place = NOWHERE


class InterfaceNameFact(msgspec.Struct, frozen=True):
    """How an interface is called on the system, where a text calls it otherwise.

    Attributes:
        called: Its name; empty if it is matched by something else.
        by: Whether that is the name by which it is found, or the one that it is given.
    """

    interface: str
    called: str = ""
    by: Literal["match", "set"] = "match"
    place: Place = NOWHERE


class PartFact(msgspec.Struct, frozen=True):
    """That an interface has a part (a VLAN of it), where the parent says so and not the part."""

    interface: str
    part: str
    place: Place = NOWHERE


class InterfaceResolverFact(msgspec.Struct, frozen=True):
    """A DNS resolver to be asked by way of an interface."""

    interface: str
    address: Address
    place: Place = NOWHERE


class InterfaceSearchFact(msgspec.Struct, frozen=True):
    """A domain in which short names are looked for by way of an interface."""

    interface: str
    domain: str
    place: Place = NOWHERE


class ZoneFact(msgspec.Struct, frozen=True):
    """What side an interface faces: its zone, or a mark that it has for translations."""

    interface: str
    zone: str
    place: Place = NOWHERE


class StaticNatFact(msgspec.Struct, frozen=True):
    """A two-way translation of one host, where that is one statement."""

    external: Prefix
    internal: Prefix
    facing: tuple[str, ...] | None = None
    name: str = ""
    rank: int | None = None
    place: Place = NOWHERE


class AddressSetFact(msgspec.Struct, frozen=True):
    """Addresses that are declared apart, and used by name.

    Attributes:
        spare: Whether it is only a name that could be used, and is not written by itself.
        table, family: The table that it is known in, and the family of that; empty and 0 if everywhere.
    """

    name: str
    addresses: AddressSet
    table: str = ""
    family: int = 0
    spare: bool = False
    place: Place = NOWHERE


class ServiceFact(msgspec.Struct, frozen=True):
    """A service that is declared apart, and used by name.

    Attributes:
        spare: As in `AddressSetFact`.
    """

    name: str
    protocol: str
    ports: Spans | None = None
    spare: bool = False
    place: Place = NOWHERE


class SettingsFact(msgspec.Struct, frozen=True):
    """What is set on a device as a whole, but for what is a section of its own."""

    forwarding4: bool | None = None
    forwarding6: bool | None = None
    reverse_path: ReversePath | None = None
    place: Place = NOWHERE


class IdentityFact(msgspec.Struct, frozen=True):
    """The address that stands for the device (router id).

    Attributes:
        derived: Whether it is not said in the intent, but follows from its loopback.
    """

    identity: Address
    derived: bool = False
    place: Place = NOWHERE


class ResolverFact(msgspec.Struct, frozen=True):
    """A DNS resolver that the device asks, whatever way leads to it."""

    address: Address
    place: Place = NOWHERE


class SearchFact(msgspec.Struct, frozen=True):
    """The domains in which a device looks for short names, with blanks between them."""

    domains: str
    place: Place = NOWHERE


class LookupsFact(msgspec.Struct, frozen=True):
    """Whether a device asks resolvers for names at all."""

    lookups: bool
    place: Place = NOWHERE


class HostFact(msgspec.Struct, frozen=True):
    """A name, or several between white space, in the device's own table of hosts."""

    name: str
    address: Address
    place: Place = NOWHERE


class HelperFact(msgspec.Struct, frozen=True):
    """A protocol that opens further connections, and the ports to which its control connections are made.

    Attributes:
        called: The name by which helpers are declared apart, where they are.
    """

    protocol: str
    ports: Spans
    name: str = ""
    called: str = ""
    place: Place = NOWHERE


class DeclaredHelperFact(msgspec.Struct, frozen=True):
    """A helper that is declared apart, and used by name."""

    called: str
    name: str
    protocol: str
    place: Place = NOWHERE


class IncludedFact(msgspec.Struct, frozen=True):
    """That a program reads other files as well.

    Attributes:
        files: Their paths, or patterns of them, with blanks between.
        folder: Whether these are folders, of which every file is read.
    """

    files: str
    folder: bool = False
    place: Place = NOWHERE

    def found_in(self, files: Sequence[str]) -> bool:
        """Tell whether files, whatever folder they were captured into, may be all of them."""
        patterns = ["*"] if self.folder else [PurePath(each.strip("\"'")).name for each in self.files.split()]
        return all(any(fnmatchcase(PurePath(file).name, each) for file in files) for each in patterns)


class MadeRouteFact(msgspec.Struct, frozen=True):
    """A route that nobody configured: the system has it for an address of its own, or learned it.

    Attributes:
        by: What made it; `kernel` for what follows from addresses.
        own: Whether packets along it are for the device itself.
    """

    to: Prefix
    interface: str = ""
    by: Literal["kernel", "dhcp", "ra", "redirect"] = "kernel"
    own: bool = False
    place: Place = NOWHERE


class LearnedAddressFact(msgspec.Struct, frozen=True):
    """An address that an interface learned."""

    interface: str
    address: Prefix
    place: Place = NOWHERE


SINGLE = "*"
Fact = (
    DeviceFact | InterfaceFact | DialFact | AddressFact | ProxyFact | MemberFact | VlanMemberFact
    | DeclaredInterfaceFact | InterfaceNameFact | PartFact | InterfaceResolverFact | InterfaceSearchFact
    | ResolverFact | SearchFact | LookupsFact | HostFact | HelperFact | DeclaredHelperFact | ZoneFact | StaticNatFact
    | AddressSetFact | ServiceFact | Route | Rule | Passage | SettingsFact | IdentityFact | PortSetFact | ChainFact
    | BaseChainFact | PolicyFact | StepFact | IncludedFact | MadeRouteFact | LearnedAddressFact
)  # fmt: skip
