"""Walks: which device and interface a packet comes to, what becomes of it there, and whether its reply comes back."""

from __future__ import annotations

import pytest

import agile_lattice as al


def test_a_host_on_the_link_of_several_devices_sends_by_its_gateway() -> None:
    network = al.loads("""
        lattice: 1
        names: {hosts: {till: {address: 10.40.10.9/24, gateway: 10.40.10.2}}}
        devices:
          quay: {speaks: iproute2, interfaces: {lan0: {address: 10.40.10.1/24}}}
          pier: {speaks: iproute2, interfaces: {lan7: {address: 10.40.10.2/24}}}
    """)
    found = al.walk(network, "10.40.10.9", "192.0.2.9", "tcp/443")
    assert [(each.device, each.arrives) for each in found.visits] == [("pier", "lan7")]


TAKING = """
lattice: 1
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      lan0: {address: [10.40.10.1/24, 10.40.11.1/24]}
      bare0: {}
      wan0: {address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}, {to: 10.40.12.0/24, interface: bare0}]
    translations:
      - {name: web-proxy, intercept: true, from: [lan0, bare0], service: tcp/80, port: 3128}
"""


@pytest.mark.parametrize(
    ("arrives", "source", "port", "end"),
    [
        ("lan0", "10.40.11.7", 80, ("local", "10.40.10.1", 3128)),
        ("lan0", "10.40.11.7", 81, ("forwarded", "198.51.100.9", 81)),
        ("wan0", "192.0.2.7", 80, ("forwarded", "198.51.100.9", 80)),
        ("bare0", "10.40.12.7", 80, ("discarded", "<the address that bare0 lacks>", 3128)),
    ],
)
def test_what_a_device_takes_for_itself_comes_to_the_first_address_of_the_interface(
    arrives: str, source: str, port: int, end: tuple[str, str, int]
) -> None:
    found = al.walk(al.loads(TAKING), source, "198.51.100.9", f"tcp/{port}", at=f"quay:{arrives}")
    last = found.visits[-1].after
    assert (found.end, str(last.destination), last.port) == end


FILTERED = """
lattice: 1
devices:
  quay:
    speaks: [iproute2, nftables, sysctl]
    settings: {reverse-path: MODE}
    interfaces:
      lan0: {address: 10.40.10.1/24}
      wan0: {address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}, {to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.0.0/16, via: 10.40.10.3}]
"""


@pytest.mark.parametrize(
    ("arrives", "source", "strict", "loose"),
    [
        ("lan0", "10.40.10.7", "forwarded", "forwarded"),
        ("lan0", "10.41.7.7", "forwarded", "forwarded"),
        ("lan0", "192.0.2.7", "dropped", "forwarded"),
        ("wan0", "192.0.2.7", "forwarded", "forwarded"),
        ("wan0", "10.40.10.7", "dropped", "forwarded"),
    ],
)
def test_a_packet_that_came_by_the_way_back_to_its_source_is_let_in(
    arrives: str, source: str, strict: str, loose: str
) -> None:
    for mode, end in (("strict", strict), ("loose", loose)):
        found = al.walk(
            al.loads(FILTERED.replace("MODE", mode)), source, "198.51.100.9", "udp/53", at=f"quay:{arrives}"
        )
        assert found.end == end, (mode, found.reason)


def test_of_several_ways_the_others_are_told() -> None:
    found = al.walk(al.loads(FILTERED.replace("MODE", "off")), "192.0.2.7", "10.41.7.7", "udp/53", at="quay:wan0")
    assert (found.end, found.reason) == (
        "forwarded", "to next hop 10.40.10.2 via lan0, or next hop 10.40.10.3 via lan0"
    )  # fmt: skip


@pytest.mark.parametrize(
    ("host", "source", "obstacle"),
    [
        ("{address: 10.40.10.9/24, gateway: 10.40.10.1}", "192.0.2.7", ""),
        ("{address: 10.40.10.9/24, gateway: 10.40.10.8}", "10.40.10.77",
         "the reply is for 10.40.10.77 on lan0, and the packet came in wan0"),
        ("{address: 10.40.10.9/24, gateway: 10.40.10.8}", "192.0.2.7",
         "till sends its reply to 10.40.10.8, which is no device's address"),
        ("{address: 10.40.10.9, gateway: 10.40.10.8}", "198.51.100.7",
         "till sends its reply to 10.40.10.8, which is no device's address"),
    ],
)  # fmt: skip
def test_a_host_answers_its_neighbours_and_others_by_its_gateway(host: str, source: str, obstacle: str) -> None:
    text = FILTERED.replace("MODE", "off").replace("devices:", f"names: {{hosts: {{till: {host}}}}}\ndevices:")
    found = al.walk(al.loads(text), source, "10.40.10.9", "tcp/443", at="quay:wan0")
    assert found.end == "delivered" and found.obstacle == obstacle


def test_a_device_does_not_answer_for_what_it_would_take() -> None:
    rule = "{name: mail, intercept: true, from: wan0, destination: 203.0.113.9, service: tcp/25}"
    network = al.loads(f"{TAKING}      - {rule}\n")
    found = al.walk(network, "192.0.2.7", "203.0.113.9", "tcp/25", at="quay:wan0")
    assert (found.end, str(found.visits[-1].after.destination)) == ("local", "203.0.113.2")
    assert found.obstacle == "neighbours on wan0 ask for 203.0.113.9 (ARP), and quay does not answer"
    plain = al.loads(TAKING).device("quay")
    assert al.between(network.device("quay"), plain).same, "nobody's packet comes there"
