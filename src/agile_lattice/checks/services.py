"""Checks of published services: which they are, and what they need besides."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.publishing import SIDES, ZONED, shared_services
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import real_services
from agile_lattice.intent.services import Service
from agile_lattice.intent.translations import Publish, Static
from agile_lattice.packets.spans import covers, meet, merged

ANY = ((0, 65535),)
# Services that send what they carry, passwords too, as it is (ports of the IANA registry).
CLEAR = {
    "tcp": {21: "FTP", 23: "Telnet", 80: "HTTP", 110: "POP3", 143: "IMAP", 389: "LDAP", 512: "rexec", 513: "rlogin",
            514: "rsh", 873: "rsync", 5900: "RFB"},
    "udp": {69: "TFTP", 161: "SNMP", 514: "syslog"},
}  # fmt: skip
# Services whose control port alone is of no use, and what else they need.
SECOND_CONNECTION = {
    ("tcp", 21): ("FTP (RFC 959)", "the ports of its data connections"),
    ("tcp", 554): ("RTSP (RFC 7826)", "the ports of its media"),
    ("tcp", 1720): ("H.323 call signalling", "the ports of its media"),
    ("tcp", 1723): ("PPTP (RFC 2637)", "gre"),
    ("tcp", 5060): ("SIP (RFC 3261)", "the ports of its media"),
    ("udp", 69): ("TFTP (RFC 1350)", "the ports of its transfers"),
    ("udp", 500): ("IKE (RFC 7296)", "udp/4500 or esp"),
    ("udp", 5060): ("SIP (RFC 3261)", "the ports of its media"),
}


@check(
    "device-listens-there",
    "error",
    "A port that is published on the device's own address is no longer the device's: its own service there cannot be"
    " reached from that side.",
    wrong="listens: [tcp/22]\n" + SIDES + "- {publish: 203.0.113.2, service: tcp/22, on: 10.40.10.11, facing: wan0}",
    right="listens: [tcp/22]\n" + SIDES + "- {publish: 203.0.113.2, service: tcp/2222, on: 10.40.10.11, facing: wan0}",
)
def device_listens_there(design: Design) -> Iterator[Found]:
    """Find services published on an own address of the device on which it listens itself, or is managed."""
    for device in design.devices:
        ports = design.topology.devices[device.name].interfaces  # with what they learn
        own = merged((own.value, own.value) for one in ports for own in one.addresses if own.family == 4)
        offered = [
            *((each.services, each.interfaces, each.place) for each in device.listens),
            *((each.services, each.arrives, each.place) for each in device.access if not each.deny),
        ]
        for one in device.translations:
            if not isinstance(one, Publish) or not meet(one.named, own):
                continue
            for services, sides, place in offered:
                both = shared_services(services, one.services)
                if both and (sides is None or one.facing is None or set(sides) & set(one.facing)):
                    yield Found(
                        one.place.at("publish"), translation_subject(device, one),
                        f"{device.name} itself offers {both[0]} there ({place})",
                        "Publish it at another port or address, or move the device's own service.",
                    )  # fmt: skip
                    break


@check(
    "everything-published",
    "warning",
    "Without a list of services every port of the host is open to whoever finds it.",
    wrong=SIDES + "- {publish: 203.0.113.5, on: 10.40.10.11, facing: wan0}\n"
    "- {to: wan0, source: 10.40.10.11, source-becomes: {pool: 203.0.113.5}}",
    right=SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}",
)
def everything_published(design: Design) -> Iterator[Found]:
    """Find publications with all services, and one-to-one translations whose derived permit opens them all."""
    for device in design.devices:
        derived = {each.origin for each in device.permits if each.origin and each.services is None}
        for one in device.translations:
            if isinstance(one, Publish) and one.services is None:
                yield Found(
                    one.place, translation_subject(device, one), f"every service of {one.internal} is published",
                    "Name the services that are meant with `service`.",
                )  # fmt: skip
            elif isinstance(one, Static) and one.name in derived and design.faces_public(device, one.facing):
                yield Found(
                    one.place, translation_subject(device, one),
                    f"the permit that is derived from it lets every service of {one.internal.shortest} through",
                    "Publish the services that are meant, or permit them by hand in place of `derive`.",
                )  # fmt: skip


@check(
    "clear-text",
    "warning",
    "What a clear-text service carries, passwords too, can be read and changed by everybody on the way.",
    wrong=ZONED + "      - {publish: 203.0.113.5, service: tcp/8080, on: 10.40.20.11, internal-port: 80, facing: sea}",
    right=ZONED + "      - {publish: 203.0.113.5, service: tcp/443, on: 10.40.20.11, facing: sea}",
)
def clear_text(design: Design) -> Iterator[Found]:
    """Find clear-text services published to a public zone, by their real port."""
    for device in design.devices:
        for one in device.translations:
            if not isinstance(one, Publish) or one.services is None or not design.faces_public(device, one.facing):
                continue
            named = [
                f"{name} ({service.protocol}/{port})"
                for service in real_services(one) or ()
                for port, name in CLEAR.get(service.protocol, {}).items()
                if service.ports is not None and meet(service.ports, ((port, port),))
            ]
            if named:
                yield Found(
                    one.place.at("service"), translation_subject(device, one),
                    f"{named[0]} of {one.internal} is clear text, and published to everybody",
                    "Publish its encrypted form, or accept the finding with the reason.",
                )  # fmt: skip


@check(
    "control-port-alone",
    "warning",
    "Some protocols open a second connection; where that is not published too, they connect and then hang.",
    wrong=SIDES + "- {publish: 203.0.113.5, service: udp/500, on: 10.40.10.11, facing: wan0}",
    right=SIDES + "- {publish: 203.0.113.5, service: [udp/500, udp/4500], on: 10.40.10.11, facing: wan0}",
)
def control_port_alone(design: Design) -> Iterator[Found]:
    """Find services of two connections of which only the port of the first is published."""
    for device in design.devices:
        for one in device.translations:
            if not isinstance(one, Publish) or one.services is None:
                continue
            for (protocol, port), (name, second) in SECOND_CONNECTION.items():
                helped = any(_has(each, protocol, port) for one in device.settings.helpers for each in one.services)
                asked = any(_has(service, protocol, port) for service in one.services)
                if asked and not helped and _alone(_published_on(device, one.internal), protocol, port):
                    yield Found(
                        one.place.at("service"), translation_subject(device, one),
                        f"{name} needs {second} too, and only {protocol}/{port} is published on {one.internal}",
                        "Publish the rest as well, or let a helper open it (`settings: {helpers: ...}`).",
                    )  # fmt: skip


def _published_on(device: Device, host: Address) -> list[Service]:
    return [
        service
        for one in device.translations
        if isinstance(one, Publish) and one.internal == host
        for service in one.services or (Service("tcp"), Service("udp"), Service("gre"), Service("esp"))
    ]


def _has(service: Service, protocol: str, port: int) -> bool:
    return service.protocol == protocol and service.ports is not None and covers(service.ports, ((port, port),))


def _alone(services: list[Service], protocol: str, port: int) -> bool:
    """Whether nothing that could be the second connection is published on the host too."""
    if (protocol, port) == ("tcp", 1723):
        return all(each.protocol != "gre" for each in services)
    if (protocol, port) == ("udp", 500):
        return not any(each.protocol == "esp" or _has(each, "udp", 4500) for each in services)
    media = "tcp" if port == 21 else "udp"
    return not any(
        each.protocol == media
        and any(last >= 1024 and (first, last) != (port, port) for first, last in each.ports or ANY)
        for each in services
    )
