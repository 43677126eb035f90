"""The shape of a device in an intent file: interfaces, routes, permits, settings."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.model import Helped
from agile_lattice.notation.translation_shapes import TranslationShape
from agile_lattice.notation.values import (
    Credential,
    Destination,
    InterfaceName,
    IPAddress,
    IPPrefix,
    Many,
    Members,
    Name,
    RuleName,
    Shape,
    ShortOrKeys,
    Text,
    Vlan,
    VlanId,
    Word,
    Words,
)


class AddressShape(Shape):
    """An address of an interface, with what it is for."""

    address: IPPrefix
    purpose: Literal["own", "published", "pool"] = "own"
    description: Text | None = None


class DialShape(Shape):
    """A dial-up tunnel (PPPoE) over another interface's wire."""

    over: InterfaceName
    user: Credential
    password: Credential


class BridgeShape(Shape):
    """Interfaces joined to one segment; `vlans` are those of which the bridge itself is a member."""

    members: Members[InterfaceName]
    vlans: Many[VlanId] = []


class InterfaceShape(Shape):
    """An interface: its addresses and what else is set on it."""

    address: Many[ShortOrKeys[IPPrefix, AddressShape]] = []
    learns: Many[Literal["dhcp", "dhcp6", "slaac"]] = []
    dial: DialShape | None = None
    loopback: Members[IPPrefix] | None = None
    zone: Name | None = None
    enabled: bool = True
    mtu: Annotated[int, Field(ge=68, le=65536, description="Octets; RFC 791 asks for 68 at least.")] | None = None
    description: Text | None = None
    parent: InterfaceName | None = None
    vlan: Vlan | None = None
    bridge: BridgeShape | None = None
    tagged: Many[VlanId] = []
    untagged: VlanId | None = None
    management: bool = False
    gateway: IPAddress | None = None
    resolvers: Many[IPAddress] = []
    search: Many[Name] = Field(default=[], description="Domains in which short names are looked for, in order.")
    instance: Name | None = None
    block: Name | None = None
    link: Name | None = None
    answers: Members[Word] | None = None

    @model_validator(mode="after")
    def _either(self) -> InterfaceShape:
        if self.address and self.loopback is not None:
            raise ValueError("an interface has either `address` or, if it is a loopback, `loopback`")
        if self.vlan is not None and self.parent is None:
            raise ValueError("`vlan` needs `parent`: the interface that the VLAN is on")
        return self


class RouteShape(Shape):
    """A static route."""

    to: Destination
    via: IPAddress | None = None
    interface: InterfaceName | None = None
    discard: Literal[True, "blackhole", "unreachable", "prohibit"] | None = None
    distance: Annotated[int, Field(ge=1, le=2**32 - 1, description="Administrative distance; the lowest wins.")] = 1
    metric: Annotated[int, Field(ge=0, le=2**32 - 1, description="The lowest wins among equal distances.")] | None = (
        None
    )
    off_link: bool = False
    instance: Name | None = None
    summarises: Words | None = None
    description: Text | None = None

    @model_validator(mode="after")
    def _leads_somewhere(self) -> RouteShape:
        if self.discard and (self.via or self.interface):
            raise ValueError("a route either discards or has a next hop (`via`, `interface`), not both")
        if not (self.discard or self.via or self.interface):
            raise ValueError("the route leads nowhere: give `via`, `interface`, both, or `discard`")
        family = self.to.family if isinstance(self.to, Prefix) else None
        if self.via and family and self.via.family != family:
            raise ValueError(f"the destination is IPv{family} and the next hop IPv{self.via.family}")
        if self.to == "default" and self.via is None:
            raise ValueError("without a next hop `default` could be either family: write 0.0.0.0/0 or ::/0")
        if self.off_link and (self.via is None or self.interface is None):
            raise ValueError("`off-link` needs `via` and `interface`: the link that the next hop is behind")
        return self


class PermitShape(Shape):
    """What may pass, or with `deny` may not; or, with `derive`, all that the translations need."""

    name: RuleName | None = None
    derive: Literal["translations"] | None = None
    from_: Words | None = None
    to: Words | None = None
    source: Words | None = None
    destination: Words | None = None
    service: Words | None = None
    deny: Literal[True] | None = None
    log: bool = False
    description: Text | None = None

    @model_validator(mode="after")
    def _derived_alone(self) -> PermitShape:
        if self.derive and self.model_fields_set - {"derive", "log"}:
            raise ValueError("`derive: translations` takes nothing but `log`: the translations say the rest")
        return self


class AccessShape(Shape):
    """Who may manage the device itself, or with `deny` may not."""

    name: RuleName | None = None
    from_: Words | None = None
    source: Words | None = None
    destination: Words | None = None
    service: Words | None = None
    deny: Literal[True] | None = None
    description: Text | None = None


class ListeningShape(Shape):
    """A service that the device itself offers, and where."""

    service: Words
    on: Words


class ForwardingShape(Shape):
    """Whether packets are forwarded, for each family."""

    ipv4: bool | None = None
    ipv6: bool | None = None


class SettingsShape(Shape):
    """What is set on the device as a whole."""

    host_name: Name | None = None
    forwarding: ShortOrKeys[bool, ForwardingShape] | None = None
    reverse_path: Literal["off", "strict", "loose"] | None = None
    resolvers: Many[IPAddress] = []
    lookups: bool | None = Field(default=None, description="Whether names are looked up by asking resolvers.")
    search: Many[Name] = Field(default=[], description="Domains in which short names are looked for, in order.")
    hosts: dict[Name, Many[IPAddress]] = {}
    helpers: dict[Helped, Words] = Field(
        default={}, description="Protocols whose control connections open others, which then pass as replies do."
    )
    identity: IPAddress | None = None


# What goes with each way to reach a device.
WITH: dict[str, tuple[str, ...]] = {
    "ssh": ("user", "sudo", "port", "key", "known_hosts", "password_file", "password_variable"),
    "restconf": ("user", "port", "certificate", "password_file", "password_variable"),
    "namespace": (),
}


def _key(field: str) -> str:
    return f"`{field.replace('_', '-')}`"


class ConnectionShape(Shape):
    """How a device is reached: by SSH, by RESTCONF, or in a network namespace of this system."""

    ssh: Name | IPAddress | None = Field(default=None, description="The host that SSH connects to.")
    restconf: Name | IPAddress | None = Field(default=None, description="The host that has RESTCONF (RFC 8040).")
    namespace: Name | None = None
    user: Name | None = None
    sudo: bool = Field(
        default=False, description="Whether the user becomes root by `sudo`, which must ask for no password."
    )
    port: int | None = Field(default=None, ge=1, le=65535, description="22 for SSH and 443 for RESTCONF if not said.")
    key: Text | None = Field(default=None, description="The file of a private key; no secret stands in an intent.")
    known_hosts: Text | None = Field(default=None, description="The file that has the key of the host.")
    certificate: Text | None = Field(
        default=None, description="The file with the certificate of the host, or of who signed it."
    )
    password_file: Text | None = Field(default=None, description="The file that holds the password of the user.")
    password_variable: Text | None = Field(
        default=None, description="The environment variable that holds the password of the user."
    )

    @model_validator(mode="after")
    def _one_way(self) -> ConnectionShape:
        said = {name for name in WITH if getattr(self, name) is not None}
        if len(said) != 1:
            raise ValueError("say one of `ssh`, `restconf` and `namespace`, or `local`")
        (by,) = said
        more = sorted(self.model_fields_set - {by, *WITH[by]})
        if by == "namespace" and more:
            raise ValueError("a `namespace` takes nothing else: it is a part of this system")
        if more:
            raise ValueError(f"`{by}` takes {', '.join(_key(each) for each in WITH[by])}, and not {_key(more[0])}")
        logins = [each for each in (self.key, self.password_file, self.password_variable) if each is not None]
        if by == "restconf" and (self.user is None or len(logins) != 1):
            raise ValueError("`restconf` wants `user`, and one of `password-file` and `password-variable`")
        if by == "ssh" and len(logins) > 1:
            raise ValueError("`ssh` takes one of `key`, `password-file` and `password-variable`")
        return self


class DeviceShape(Shape):
    """A device."""

    speaks: Many[Name]
    description: Text | None = None
    connection: ShortOrKeys[Literal["local"], ConnectionShape] | None = None
    settings: SettingsShape = SettingsShape()
    interfaces: dict[InterfaceName, InterfaceShape] = {}
    routes: list[RouteShape] = []
    translations: list[TranslationShape] = []
    permits: list[PermitShape] = []
    management: list[AccessShape] = []
    listens: list[ShortOrKeys[RuleName, ListeningShape]] = []
