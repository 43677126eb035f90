"""One end of a connection, run on a system of its own: serve once, connect, send a datagram, or watch what comes in."""

from __future__ import annotations

import socket
import struct
import sys
import time

ALL = 0x0800  # ETH_P_IP
OUTGOING = 4  # PACKET_OUTGOING: what the system itself sends


def serve(address: str, port: str) -> None:
    """Take one connection; print who connected, and to which port."""
    with socket.create_server((address, int(port))) as server:
        server.settimeout(15)
        connection, (client, _) = server.accept()
        with connection:
            print(client, connection.getsockname()[1])


def connect(source: str, address: str, port: str) -> None:
    """Connect from an address, as soon as somebody listens."""
    for _ in range(40):
        try:
            socket.create_connection((address, int(port)), 5, (source, 0)).close()
            return
        except ConnectionRefusedError:
            time.sleep(0.1)
    sys.exit("nobody listens")


def send(*datagrams: str) -> None:
    """Send datagrams, each given as source, source port, destination, destination port; its source port is its text."""
    for source, source_port, address, port in zip(*[iter(datagrams)] * 4, strict=True):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
            sender.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sender.bind((source, int(source_port)))
            sender.sendto(source_port.encode(), (address, int(port)))


def watch(interface: str) -> None:
    """Print every datagram that comes in, as its text, source, destination and port, until nothing more comes."""
    with socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(ALL)) as link:
        link.bind((interface, ALL))
        link.settimeout(0.05)
        print("watching", flush=True)
        quiet = 0
        while quiet < 12:
            try:
                data, (_, _, kind, *_) = link.recvfrom(2048)
            except TimeoutError:
                quiet += 1
                continue
            if kind == OUTGOING or data[9] != socket.IPPROTO_UDP:
                continue
            start = (data[0] & 15) * 4
            port = struct.unpack("!H", data[start + 2 : start + 4])[0]
            text = data[start + 8 :].decode(errors="replace")
            print(text, socket.inet_ntoa(data[12:16]), socket.inet_ntoa(data[16:20]), port, flush=True)


if __name__ == "__main__":
    {"serve": serve, "connect": connect, "send": send, "watch": watch}[sys.argv[1]](*sys.argv[2:])
