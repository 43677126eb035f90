"""One end of a connection, run on a system of its own: serve once, connect, send packets, or watch what comes in."""

from __future__ import annotations

import select
import socket
import struct
import sys
import time
from contextlib import suppress

ALL = 0x0003  # ETH_P_ALL
FORCED = 33  # SO_RCVBUFFORCE
OUTGOING = 4  # PACKET_OUTGOING: what the system itself sends
PROTOCOLS = {"icmp": 1, "tcp": 6, "udp": 17, "icmp6": 58}
PKTINFO = 8  # IP_PKTINFO
PATIENCE = 4  # seconds: a first segment is sent again after one and after three, should the machine be busy
SYN, ECHOES = 2, {1: 8, 58: 128}
# By type of frame: the family, and where in the header the protocol and the addresses stand, and how long these are.
ENDS = {0x0800: (socket.AF_INET, 9, 12, 4), 0x86DD: (socket.AF_INET6, 6, 8, 16)}


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


def listen(port: str) -> None:
    """Take connections on a port of all addresses, and send each datagram back, until standard input ends."""
    server, datagrams = socket.create_server(("", int(port))), socket.socket(type=socket.SOCK_DGRAM)
    datagrams.setsockopt(socket.IPPROTO_IP, PKTINFO, 1)
    datagrams.bind(("", int(port)))
    print("listening", flush=True)
    while True:
        for ready in select.select([sys.stdin, server, datagrams], [], [])[0]:
            if ready is server:
                server.accept()[0].close()
            elif ready is datagrams:
                # From the address that it was sent to, and not from that of the interface by which it goes back.
                data, ((level, kind, where),), _, sender = datagrams.recvmsg(64, 64)
                datagrams.sendmsg([data], [(level, kind, bytes(4) + where[4:8] + bytes(4))], 0, sender)
            else:
                return


def attempt(*ends: str) -> None:
    """Connect from addresses to others, each given as protocol, source, address and port; print which are answered."""
    tried: dict[int, socket.socket] = {}
    for number, (protocol, source, address, port) in enumerate(zip(*[iter(ends)] * 4, strict=True)):
        client = socket.socket(type=socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM)
        client.setblocking(False)
        client.bind((source, 0))
        client.connect_ex((address, int(port)))
        tried[number] = client
    end = time.monotonic() + PATIENCE
    while tried and (left := end - time.monotonic()) > 0:
        asking = [each for each in tried.values() if each.type == socket.SOCK_DGRAM]
        for each in asking:
            with suppress(OSError):  # what came back last time was an error
                each.send(b"?")
        connecting = [each for each in tried.values() if each not in asking]
        ready = {*(found := select.select(asking, connecting, [], min(left, 0.5)))[0], *found[1]}
        for number in [number for number, client in tried.items() if client in ready]:
            if _is_answered(tried[number]):
                print(number)
                del tried[number]
            elif tried[number].type == socket.SOCK_STREAM:
                del tried[number]


def _is_answered(client: socket.socket) -> bool:
    if client.type == socket.SOCK_STREAM:
        return not client.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
    try:
        return client.recv(64) == b"?"
    except OSError:
        return False


def send(*packets: str) -> None:
    """Send packets, each given as protocol, source, number, destination, and destination port.

    The number is the source port and what `watch` tells the packet by: the text of a datagram, the sequence number of
    the first segment of a connection or of a request for an echo.
    """
    for protocol, source, number, address, port in zip(*[iter(packets)] * 5, strict=True):
        family = socket.AF_INET6 if ":" in source else socket.AF_INET
        ends = socket.inet_pton(family, source) + socket.inet_pton(family, address)
        body = _body(protocol, int(number), int(port), ends)
        with socket.socket(family, socket.SOCK_RAW, socket.IPPROTO_RAW) as sender:  # the header is ours, too
            sender.sendto(_head(family, PROTOCOLS[protocol], len(body)) + ends + body, (address, 0))


def _head(family: int, protocol: int, length: int) -> bytes:
    """Return what stands before the addresses; the system fills in the rest of IPv4."""
    if family == socket.AF_INET6:
        return struct.pack("!IHBB", 6 << 28, length, protocol, 64)
    return struct.pack("!BBHHHBBH", 0x45, 0, 0, 0, 0, 64, protocol, 0)


def _body(protocol: str, number: int, port: int, ends: bytes) -> bytes:
    """Return a datagram, a segment or a request, with its checksum (RFC 768, RFC 9293, RFC 792, RFC 4443)."""
    if protocol == "icmp":
        return _summed(struct.pack("!BBHHH", port, 0, 0, number, number), 2, b"")
    if protocol == "udp":
        text = str(number).encode()
        body, at = struct.pack("!HHHH", number, port, 8 + len(text), 0) + text, 6
    elif protocol == "tcp":
        body, at = struct.pack("!HHIIBBHHH", number, port, number, 0, 5 << 4, SYN, 1024, 0, 0), 16
    else:
        body, at = struct.pack("!BBHHH", port, 0, 0, number, number), 2
    return _summed(body, at, ends + struct.pack("!II", len(body), PROTOCOLS[protocol]))


def _summed(body: bytes, at: int, before: bytes) -> bytes:
    text = before + body + b"\0" * (len(body) % 2)
    total = sum(struct.unpack(f"!{len(text) // 2}H", text))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return body[:at] + struct.pack("!H", ~total & 0xFFFF) + body[at + 2 :]


def watch(interface: str) -> None:
    """Print every packet of `send` that comes in, until standard input ends and nothing more comes.

    A line for each: its number, protocol, source, destination, and destination port.
    """
    with socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(ALL)) as link:
        link.setsockopt(socket.SOL_SOCKET, FORCED, 1 << 26)  # none is lost where others keep the machine busy
        link.bind((interface, ALL))
        link.settimeout(0.05)
        print("watching", flush=True)
        quiet = 0
        while quiet < 8:
            try:
                data, (_, kind, way, *_) = link.recvfrom(2048)
            except TimeoutError:
                ended = bool(select.select([sys.stdin], [], [], 0)[0])
                quiet = quiet + 1 if ended else 0
                continue
            if way != OUTGOING and kind in ENDS:
                _tell(data, *ENDS[kind])


def _tell(data: bytes, family: int, protocol: int, first: int, size: int) -> None:
    """Print a packet, if it is one of those that `send` sends."""
    start = 40 if family == socket.AF_INET6 else (data[0] & 15) * 4
    number, port = _told(data[protocol], data[start:])
    if number is not None:
        name = next(each for each, known in PROTOCOLS.items() if known == data[protocol])
        ends = (socket.inet_ntop(family, data[at : at + size]) for at in (first, first + size))
        print(number, name, *ends, port, flush=True)


def _told(protocol: int, body: bytes) -> tuple[int | None, int]:
    """Return the number and the port of a packet that `send` sends; no number if it is another."""
    if protocol == PROTOCOLS["udp"] and body[8:].isdigit():
        return int(body[8:]), struct.unpack("!H", body[2:4])[0]
    if protocol == PROTOCOLS["tcp"] and body[13] == SYN:
        return struct.unpack("!I", body[4:8])[0], struct.unpack("!H", body[2:4])[0]
    if protocol in ECHOES and body[0] == ECHOES[protocol]:
        return struct.unpack("!H", body[6:8])[0], body[0]
    return None, 0


if __name__ == "__main__":
    globals()[sys.argv[1]](*sys.argv[2:])  # one of the functions above
